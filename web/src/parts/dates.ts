/** Dates as people type them. Days are counted in UTC, so that no time zone moves them. */

const months = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];

/** Whether it is a day as the server takes it: 2026-03-18. */
export function isDay(text: string): boolean {
  const [year, month, day] = text.split("-");
  return (
    /^\d{4}-\d{2}-\d{2}$/.test(text) && day !== undefined && dayOf(Number(year), Number(month), Number(day)) === text
  );
}

/** The day as the server takes it; nothing where the calendar has no such day. */
function dayOf(year: number, month: number, day: number): string | undefined {
  const at = new Date(Date.UTC(year, month - 1, day));
  const same = at.getUTCFullYear() === year && at.getUTCMonth() === month - 1 && at.getUTCDate() === day;
  return same && year >= 1900 && year < 2200 ? at.toISOString().slice(0, 10) : undefined;
}

/** So many days after a day. */
export function daysAfter(day: string, days: number): string {
  const at = new Date(`${day}T00:00:00Z`);
  at.setUTCDate(at.getUTCDate() + days);
  return at.toISOString().slice(0, 10);
}

/** So many months after a day; the last of the month where that has fewer days. */
export function monthsAfter(day: string, by: number): string {
  const [year = 0, month = 1, date = 1] = day.split("-").map(Number);
  const last = new Date(Date.UTC(year, month + by, 0)).getUTCDate();
  return new Date(Date.UTC(year, month - 1 + by, Math.min(date, last))).toISOString().slice(0, 10);
}

/** A day and month of the year in which it lies nearest to `today`: 28 Dec typed in January is last month's. */
function nearest(today: string, month: number, day: number): string | undefined {
  const year = Number(today.slice(0, 4));
  const apart = (one: string) => Math.abs(Date.parse(one) - Date.parse(today));
  return [year, year - 1, year + 1]
    .map((one) => dayOf(one, month, day))
    .filter((one): one is string => one !== undefined)
    .sort((one, other) => apart(one) - apart(other))[0];
}

function year(text: string): number {
  return text.length === 2 ? 2000 + Number(text) : Number(text);
}

/**
 * The day that was typed, as the server takes it: `18 Mar 2026`, `Mar 18`, `18/3`, `18.3.26`, `18` of the month,
 * `+14` days from `today`, `today`. Nothing where it is no day. The day comes before the month, unless only the other
 * way round is one.
 */
export function typedDay(typed: string, today: string): string | undefined {
  const text = typed.trim().toLowerCase().replace(/,/g, " ").replace(/\s+/g, " ");
  if (isDay(text)) {
    return text;
  }
  const words: Record<string, number> = { today: 0, tomorrow: 1, yesterday: -1 };
  const away =
    words[text] ??
    (/^[+\-\u2212] ?\d{1,4}$/.test(text) ? Number(text.replace(" ", "").replace("\u2212", "-")) : undefined);
  if (away !== undefined) {
    return isDay(today) ? daysAfter(today, away) : undefined;
  }
  if (/^\d{1,2}$/.test(text)) {
    return isDay(today) ? dayOf(Number(today.slice(0, 4)), Number(today.slice(5, 7)), Number(text)) : undefined;
  }
  const numbers = /^(\d{1,2})[/.\- ](\d{1,2})(?:[/.\- ](\d{4}|\d{2}))?\.?$/.exec(text);
  if (numbers) {
    const [, first = "", second = "", of] = numbers;
    const at = (day: string, month: string) =>
      of ? dayOf(year(of), Number(month), Number(day)) : nearest(today, Number(month), Number(day));
    return at(first, second) ?? at(second, first);
  }
  const named = /^(?:(\d{1,2})\.? ?([a-z]{3,9})\.?|([a-z]{3,9})\.? (\d{1,2}))(?: (\d{4}|\d{2}))?$/.exec(text);
  if (named) {
    const [, before, after, name = after ?? "", day = before ?? "", of] = named;
    const month = months.findIndex((one) => name.startsWith(one)) + 1;
    if (month === 0) {
      return undefined;
    }
    return of ? dayOf(year(of), month, Number(day)) : nearest(today, month, Number(day));
  }
  return undefined;
}

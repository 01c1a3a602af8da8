/** How figures and dates are written and read. Nothing here computes: amounts are only moved about as text. */

const exponents = new Map<string, number>();

/** Told once, from the server: how many decimals each currency has. */
export function learnExponents(known: Record<string, number>): void {
  for (const [code, exponent] of Object.entries(known)) {
    exponents.set(code, exponent);
  }
}

export function exponentOf(currency: string): number {
  return exponents.get(currency) ?? 2;
}

/** Minor units as a plain decimal: 29028 with two decimals is "290.28". */
export function decimal(minor: number, exponent: number): string {
  const digits = String(Math.abs(minor)).padStart(exponent + 1, "0");
  const sign = minor < 0 ? "-" : "";
  if (exponent === 0) {
    return sign + digits;
  }
  return `${sign}${digits.slice(0, -exponent)}.${digits.slice(-exponent)}`;
}

const formats = new Map<number, Intl.NumberFormat>();

function format(exponent: number): Intl.NumberFormat {
  let known = formats.get(exponent);
  if (!known) {
    known = new Intl.NumberFormat(undefined, { minimumFractionDigits: exponent, maximumFractionDigits: exponent });
    formats.set(exponent, known);
  }
  return known;
}

/** An amount in the reader's locale, with a true minus sign. */
export function money(minor: number, currency: string): string {
  const exponent = exponentOf(currency);
  // A decimal text is formatted exactly; a number would pass through floating point.
  const text = format(exponent).format(decimal(minor, exponent) as unknown as number);
  return text.replace("-", "\u2212");
}

const symbols = new Map([
  ["EUR", "€"],
  ["GBP", "£"],
  ["USD", "$"],
]);

/** An amount with its currency, for buttons and sentences: €2,805.26. */
export function moneyWithCurrency(minor: number, currency: string): string {
  const symbol = symbols.get(currency);
  return symbol ? `${symbol}${money(minor, currency)}` : `${currency} ${money(minor, currency)}`;
}

/** A quantity or price as sent by the server, in the reader's locale. */
export function number(text: string): string {
  const decimals = text.includes(".") ? text.length - text.indexOf(".") - 1 : 0;
  return format(decimals)
    .format(text as unknown as number)
    .replace("-", "\u2212");
}

/** A unit price: at least two decimals. */
export function price(text: string): string {
  const decimals = text.includes(".") ? text.length - text.indexOf(".") - 1 : 0;
  return format(Math.max(decimals, 2)).format(text as unknown as number);
}

/** A rate such as 0.055 as 5.5 %. */
export function percent(rate: string): string {
  const [whole = "0", fraction = ""] = rate.split(".");
  const digits = fraction.padEnd(6, "0");
  const text = `${whole}${digits.slice(0, 2)}.${digits.slice(2)}`.replace(/^0+(?=\d)/, "").replace(/\.?0+$/, "");
  return `${number(text || "0")} %`;
}

const months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

/** 2026-03-18 as 18 Mar 2026. */
export function date(iso: string): string {
  const [year, month, day] = iso.split("-");
  return `${Number(day)} ${months[Number(month) - 1] ?? ""} ${year}`;
}

/** 2026-03-18 as 18 Mar in the year of `today`; a date of another year is said in full. */
export function shortDate(iso: string, today: string): string {
  return iso.slice(0, 4) === today.slice(0, 4) ? date(iso).slice(0, -5) : date(iso);
}

/** A moment as 18 Mar 2026, 10:42, in the reader's own time zone. */
export function moment(iso: string): string {
  const at = new Date(iso);
  const pad = (part: number) => String(part).padStart(2, "0");
  const day = `${at.getFullYear()}-${pad(at.getMonth() + 1)}-${pad(at.getDate())}`;
  return `${date(day)}, ${pad(at.getHours())}:${pad(at.getMinutes())}`;
}

const weekdays = ["Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"];

export function weekday(iso: string): string {
  return weekdays[new Date(`${iso}T12:00:00Z`).getUTCDay()] ?? "";
}

export function plural(count: number, one: string, more: string): string {
  return `${format(0).format(count)} ${count === 1 ? one : more}`;
}

/** Words as a label begins: “transfer” is “Transfer”. */
export function sentence(words: string): string {
  return words.charAt(0).toUpperCase() + words.slice(1);
}

/**
 * What a person typed, in the reader's locale, as a plain decimal for the server to judge.
 * The mark between thousands is taken out only where it parts thousands: “7,5” is not 75, and
 * what it is, the server asks.
 */
export function typedDecimal(typed: string): string {
  const parts = format(1).formatToParts(1234567.5);
  const group = parts.find((part) => part.type === "group")?.value ?? ",";
  const point = parts.find((part) => part.type === "decimal")?.value ?? ".";
  const tight = typed.trim().replace(/\s/g, "").replace("\u2212", "-");
  const [whole = "", ...rest] = tight.split(point);
  const thousands = whole.split(group.trim() || " ");
  const grouped = thousands.every((digits, at) => (at === 0 ? /^-?\d{1,3}$/ : /^\d{3}$/).test(digits));
  const plain = [grouped ? thousands.join("") : whole, ...rest].join(".");
  // "7." is a number on its way.
  return plain.replace(/\.$/, "");
}

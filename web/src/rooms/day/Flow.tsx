import { BarChart } from "@mui/x-charts/BarChart";
import type { Receivables } from "../../api/types";
import { money, shortDate } from "../../format";

/** What came in, week by week, against what was due. */
export default function Flow({ weeks, base, today }: { weeks: Receivables["weeks"]; base: string; today: string }) {
  const shown = (minor: number | null) => `${money(minor ?? 0, base)} ${base}`;
  const colors = getComputedStyle(document.body);
  return (
    <BarChart
      height={132}
      margin={{ left: 14, right: 14, top: 6, bottom: 0 }}
      hideLegend
      dataset={weeks.map((week) => ({ ...week, label: shortDate(week.from, today) }))}
      xAxis={[
        {
          dataKey: "label",
          height: 22,
          tickLabelInterval: (_, at) => at % 3 === 1,
          tickLabelStyle: { fontSize: 11 },
          disableLine: true,
          disableTicks: true,
        },
      ]}
      yAxis={[{ position: "none" }]}
      series={[
        {
          dataKey: "due",
          label: "due",
          color: colors.getPropertyValue("--line-strong").trim() || "#c8ba9c",
          valueFormatter: shown,
        },
        {
          dataKey: "received",
          label: "received",
          color: colors.getPropertyValue("--fill").trim() || "#5b6b3a",
          valueFormatter: shown,
        },
      ]}
      slotProps={{ tooltip: { trigger: "axis" } }}
    />
  );
}

import { styled } from "@mui/material/styles";
import type { Track as TrackShares } from "../api/types";

const Bar = styled("span")({
  display: "inline-grid",
  gridTemplateColumns: "repeat(4, 26px)",
  gap: 3,
  verticalAlign: "middle",
  "&.small": { gridTemplateColumns: "repeat(4, 15px)", gap: 2 },
  "& i": { height: 8, borderRadius: 1, background: "var(--fill-empty)", overflow: "hidden", display: "block" },
  "& i b": { display: "block", height: "100%", background: "var(--fill)" },
  "& i:first-of-type": { borderRadius: "4px 1px 1px 4px" },
  "& i:last-of-type": { borderRadius: "1px 4px 4px 1px" },
});

const beats = ["ordered", "shipped", "billed", "paid"] as const;

/** A share in thousandths as a percentage. */
function share(permille: number): string {
  return `${Math.floor(permille / 10)} %`;
}

/** Four beats of an order, each filled by its share: where is it stuck? */
export function Track({ track, small }: { track: TrackShares; small?: boolean }) {
  const text = beats.map((beat) => `${beat} ${share(track[beat])}`).join(", ");
  return (
    <Bar role="img" aria-label={text} title={text} className={small ? "small" : ""}>
      {beats.map((beat) => (
        <i key={beat}>
          <b style={{ width: `${track[beat] / 10}%` }} />
        </i>
      ))}
    </Bar>
  );
}

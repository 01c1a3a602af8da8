import type { CardState } from "../../api/types";
import { Marked } from "../../parts/bits";
import { states } from "./words";

/** How an authorization stands: its word, with a mark where it is an exception. */
export function CardStanding({ state }: { state: CardState }) {
  const { words, className, mark } = states[state];
  return (
    <Marked className={className}>
      {mark && `${mark} `}
      {words}
    </Marked>
  );
}

import { Link } from "react-router";
import { Worktop } from "./Worktop";

export function LostWay() {
  return (
    <Worktop title="Nothing here" actions={[]}>
      <p>
        This address leads nowhere. Go to the <Link to="/">day sheet</Link>, or press <kbd>Ctrl K</kbd> and type a
        number or a name.
      </p>
    </Worktop>
  );
}

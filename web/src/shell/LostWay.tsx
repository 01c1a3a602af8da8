import { Link, useRouteError } from "react-router";
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

/** A room that could not be fetched: the server is away, or has a newer version of it. What is wrong in a room itself is not hidden. */
export function NotFetched() {
  const error = useRouteError();
  if (!(error instanceof TypeError) || !/import|module|fetch/i.test(error.message)) {
    throw error;
  }
  return (
    <Worktop
      title="Not fetched"
      actions={[{ key: "Enter", label: "Try again", run: () => window.location.reload(), primary: true }]}
    >
      <p>This screen could not be fetched from the server. Nothing that was typed is lost. Try again in a moment.</p>
    </Worktop>
  );
}

import Button from "@mui/material/Button";
import { styled } from "@mui/material/styles";
import { type ReactNode, useEffect, useRef } from "react";
import { createPortal } from "react-dom";
import { useLocation, useNavigate } from "react-router";
import { neighbour } from "../places";
import { type Action, keyName, useKeys } from "./keys";
import { NoticeStrip } from "./notices";
import { useMay } from "./session";

const Top = styled("header")({
  display: "flex",
  alignItems: "baseline",
  marginBottom: 10,
  minHeight: 34,
  paddingRight: 232,
  flexWrap: "wrap",
  columnGap: 14,
  rowGap: 0,
  "@media (max-width: 819px)": { paddingRight: 0 },
  "& .sum": { color: "var(--ink-2)" },
  "& h1": {
    overflowWrap: "anywhere",
    margin: 0,
  },
});

const Bar = styled("footer")({
  marginTop: "auto",
  display: "flex",
  alignItems: "center",
  // What does not fit stands on a second line: no label is ever cut or written over.
  flexWrap: "wrap",
  gap: 10,
  padding: "12px 0 14px",
  borderTop: "1px solid var(--line)",
  "& button": { flexShrink: 0 },
  "& .rest": {
    marginLeft: "auto",
    color: "var(--ink-3)",
    display: "flex",
    gap: 12,
    alignItems: "center",
    whiteSpace: "nowrap",
  },
});

const Heading = styled("h1")(({ theme }) => ({ ...theme.typography.h1 }));

interface Props {
  title: ReactNode;
  sum?: ReactNode;
  actions: Action[];
  children: ReactNode;
  /** Shown on the roll at the right. */
  tape?: ReactNode;
  rest?: ReactNode;
  /** Where Esc leads. */
  back?: string;
}

/** The middle of the screen: title, work, and the bar with what can be done. */
export function Worktop({ title, sum, actions: offered, children, tape, rest, back }: Props) {
  const may = useMay();
  const actions = offered.filter((action) => !action.needs || may(action.needs));
  const { setActions } = useKeys();
  const navigate = useNavigate();
  const location = useLocation();
  const place = location.pathname;
  const latest = useRef(actions);
  latest.current = actions;
  const shape = actions
    .map((action) => `${action.key}\u0001${action.label}\u0001${action.disabled ?? false}`)
    .join("\u0002");
  // biome-ignore lint/correctness/useExhaustiveDependencies: the shape stands for the actions.
  useEffect(() => {
    const bound: Action[] = latest.current.map((action, position) => ({
      ...action,
      run: () => latest.current[position]?.run(),
    }));
    const turn = (step: 1 | -1) => () => {
      const next = neighbour(place, step);
      if (next) {
        navigate(next);
      }
    };
    if (back) {
      bound.push({ key: "Escape", label: "Back", run: () => navigate(back), quiet: true });
      bound.push({ key: ",", label: "Previous document", run: turn(-1), quiet: true });
      bound.push({ key: ".", label: "Next document", run: turn(1), quiet: true });
    }
    setActions(bound);
  }, [shape, place, back, navigate, setActions]);
  const heading = useRef<HTMLHeadingElement>(null);
  // The tab, the history of the browser and a paper that is saved are named as the room is.
  useEffect(() => {
    const named = heading.current?.textContent;
    document.title = named ? `${named} · Glad Till` : "Glad Till";
  });
  const roll = document.getElementById("roll");
  return (
    <>
      <Top>
        <Heading ref={heading} tabIndex={-1}>
          {title}
        </Heading>
        {sum && <span className="sum">{sum}</span>}
      </Top>
      <NoticeStrip />
      {children}
      <Bar>
        {actions
          .filter((action) => !action.quiet)
          .map((action) => (
            <Button
              key={action.label}
              variant={action.primary ? "contained" : "text"}
              disabled={action.disabled ?? false}
              onClick={action.run}
            >
              {action.label} {action.key && <kbd>{keyName(action.key)}</kbd>}
            </Button>
          ))}
        <span className="rest">
          {rest}
          <span>
            Shortcuts <kbd>?</kbd>
          </span>
        </span>
      </Bar>
      {roll && createPortal(tape, roll)}
    </>
  );
}

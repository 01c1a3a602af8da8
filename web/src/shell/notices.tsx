import { styled } from "@mui/material/styles";
import { createContext, type ReactNode, useCallback, useContext, useMemo, useState } from "react";
import { Link } from "react-router";

/** What happened, and where to look at it. */
export interface Notice {
  text: string;
  kind: "done" | "stop";
  links?: { text: string; to: string }[];
}

interface Notices {
  notice: Notice | undefined;
  say: (notice: Notice | undefined) => void;
}

const NoticesContext = createContext<Notices>({ notice: undefined, say: () => undefined });

export function NoticesProvider({ children }: { children: ReactNode }) {
  const [notice, setNotice] = useState<Notice>();
  const say = useCallback((next: Notice | undefined) => setNotice(next), []);
  const value = useMemo(() => ({ notice, say }), [notice, say]);
  return <NoticesContext.Provider value={value}>{children}</NoticesContext.Provider>;
}

export function useNotices(): Notices {
  return useContext(NoticesContext);
}

const Strip = styled("div")({
  display: "flex",
  alignItems: "center",
  gap: 12,
  padding: "7px 12px",
  borderRadius: 6,
  marginBottom: 8,
  "&.done": { background: "var(--done-wash)", color: "var(--done)" },
  "&.stop": { background: "var(--stop-wash)", color: "var(--stop)" },
  "& a": { fontWeight: 650 },
  "& button": {
    marginLeft: "auto",
    border: 0,
    background: "none",
    color: "inherit",
    font: "inherit",
    cursor: "pointer",
  },
});

/** The latest notice, until it is put away or the next one comes. Screen readers hear it at once. */
export function NoticeStrip() {
  const { notice, say } = useNotices();
  return (
    <div role="status" aria-live="polite" data-testid="notice">
      {notice && (
        <Strip className={notice.kind}>
          <span>
            <span aria-hidden="true">{notice.kind === "done" ? "● " : "◆ "}</span>
            {notice.text}
          </span>
          {notice.links?.map((link) => (
            <Link key={link.to} to={link.to}>
              {link.text}
            </Link>
          ))}
          <button type="button" onClick={() => say(undefined)}>
            Dismiss
          </button>
        </Strip>
      )}
    </div>
  );
}

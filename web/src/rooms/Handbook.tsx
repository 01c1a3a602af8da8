import { styled } from "@mui/material/styles";
import Markdown from "react-markdown";
import { Link, useLocation } from "react-router";
import remarkGfm from "remark-gfm";
import text from "../../../docs/handbook.md?raw";
import { Paper } from "../parts/TapeRoll";
import { Worktop } from "../shell/Worktop";

const Page = styled("article")({
  overflowY: "auto",
  maxWidth: 720,
  paddingRight: 16,
  lineHeight: 1.5,
  "& h2": { margin: "26px 0 4px", fontSize: 18, scrollMarginTop: 8 },
  "& h2:first-of-type": { marginTop: 4 },
  "& p, & ul": { margin: "6px 0" },
  "& ul": { paddingLeft: 20 },
  "& table": { borderCollapse: "collapse", margin: "8px 0 24px" },
  "& th, & td": {
    textAlign: "left",
    verticalAlign: "top",
    padding: "6px 10px 6px 0",
    borderBottom: "1px solid var(--line)",
  },
  "& td:first-of-type": { width: "38%", fontWeight: 600 },
});

/** The text without its first heading, which is the room's, and without what is only for its test. */
const body = text.replace(/^# .*\n/, "").replace(/<!--[\s\S]*?-->/g, "");

const chapters = [...text.matchAll(/^## (.*)$/gm)].map((found) => found[1] ?? "");

/** Where a chapter is: `#record-receipts`. */
function anchorOf(title: string): string {
  return title.toLowerCase().replace(/[^a-z]+/g, "-");
}

/** The handbook: one short page per job, in the order of a day. */
export function HandbookRoom() {
  const { hash } = useLocation();
  return (
    <Worktop
      title="Handbook"
      sum="one short page per job"
      actions={[]}
      back="/"
      tape={
        <Paper>
          <h2>In the order of a day</h2>
          {chapters.map((title) => (
            <div className="words" key={title} style={{ padding: "3px 0" }}>
              <a href={`#${anchorOf(title)}`} style={{ display: "inline-block", minHeight: 24 }}>
                {title}
              </a>
            </div>
          ))}
        </Paper>
      }
    >
      <Page tabIndex={0} aria-label="Handbook">
        <Markdown
          remarkPlugins={[remarkGfm]}
          components={{
            a: ({ href = "", children }) => <Link to={href}>{children}</Link>,
            code: ({ children }) => <kbd>{children}</kbd>,
            h2: ({ children }) => (
              <h2
                id={anchorOf(String(children))}
                // Where one comes from a link to a chapter, that is what is seen first.
                ref={(heading) => {
                  if (heading && hash === `#${anchorOf(String(children))}`) {
                    heading.scrollIntoView?.();
                  }
                }}
              >
                {children}
              </h2>
            ),
          }}
        >
          {body}
        </Markdown>
      </Page>
    </Worktop>
  );
}

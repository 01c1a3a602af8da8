import Button from "@mui/material/Button";
import { styled } from "@mui/material/styles";
import { useRef, useState } from "react";
import { api, got, keyed, newKey, type Problem } from "../../api/client";
import type { PictureView } from "../../api/types";
import { date } from "../../format";
import { useEverythingChanged, Wrong } from "../../parts/bits";
import { Ask } from "../../shell/Ask";
import { useMay } from "../../shell/session";

const Row = styled("div")({
  display: "flex",
  flexWrap: "wrap",
  gap: 10,
  alignItems: "flex-start",
  margin: "6px 0 12px",
  "& figure": { margin: 0, width: 116 },
  "& a": { display: "block", borderRadius: 6, border: "1px solid var(--line-strong)", overflow: "hidden" },
  "& img": { display: "block", width: 114, height: 84, objectFit: "cover", background: "var(--paper)" },
  "& figcaption": {
    fontSize: 12.5,
    color: "var(--ink-3)",
    display: "flex",
    gap: 4,
    justifyContent: "space-between",
    overflowWrap: "anywhere",
  },
  "& .off": {
    border: 0,
    background: "none",
    color: "var(--ink-3)",
    cursor: "pointer",
    font: "inherit",
    padding: "0 2px",
  },
});

/** Pictures of what came back: how it arrived, what is wrong with it. */
export function Pictures({ returnId, pictures }: { returnId: number; pictures: PictureView[] }) {
  const changed = useEverythingChanged();
  const may = useMay()("handle_return");
  const input = useRef<HTMLInputElement>(null);
  const [busy, setBusy] = useState(false);
  const [wrong, setWrong] = useState<string[]>([]);
  const [removing, setRemoving] = useState<PictureView>();
  const add = async (files: File[]) => {
    setBusy(true);
    const refused: string[] = [];
    for (const file of files) {
      try {
        await got(
          api.POST("/api/returns/{id}/pictures", {
            params: { path: { id: returnId }, query: { name: file.name }, header: keyed(newKey()) },
            body: file as unknown as string,
            bodySerializer: (body) => body,
            headers: { "Content-Type": "application/octet-stream" },
          }),
        );
      } catch (problem) {
        refused.push((problem as Problem).message);
      }
    }
    setWrong(refused);
    setBusy(false);
    await changed();
  };
  if (pictures.length === 0 && !may) {
    return null;
  }
  return (
    <section aria-label="Pictures">
      {wrong.map((sentence) => (
        <p role="alert" key={sentence} style={{ margin: "0 0 6px" }}>
          <Wrong error={new Error(sentence)} />
        </p>
      ))}
      <Row>
        {pictures.map((one) => (
          <figure key={one.id}>
            <a
              href={`/api/returns/${returnId}/pictures/${one.id}`}
              target="_blank"
              rel="noreferrer"
              title={`${one.name}, ${one.width} × ${one.height}, added ${date(one.added_on)}`}
            >
              <img src={`/api/returns/${returnId}/pictures/${one.id}`} alt={one.name} loading="lazy" />
            </a>
            <figcaption>
              <span>{one.name}</span>
              {may && (
                <button
                  type="button"
                  className="off"
                  aria-label={`Remove picture ${one.name}`}
                  onClick={() => setRemoving(one)}
                >
                  ×
                </button>
              )}
            </figcaption>
          </figure>
        ))}
        {may && (
          <>
            <Button variant="outlined" disabled={busy} onClick={() => input.current?.click()}>
              {busy ? "One moment…" : "Add pictures"}
            </Button>
            <input
              ref={input}
              type="file"
              accept="image/jpeg,image/png,image/webp"
              multiple
              hidden
              aria-label="Pictures to add"
              onChange={(event) => {
                const files = [...(event.target.files ?? [])];
                event.target.value = "";
                void add(files);
              }}
            />
          </>
        )}
      </Row>
      {removing && (
        <Ask
          title={`Remove the picture ${removing.name}?`}
          yes="Remove picture"
          close={() => setRemoving(undefined)}
          run={async (key) => {
            await got(
              api.DELETE("/api/returns/{id}/pictures/{picture}", {
                params: { path: { id: returnId, picture: removing.id }, header: keyed(key) },
              }),
            );
            await changed();
            setRemoving(undefined);
          }}
        >
          The picture is gone then; that it was there, and who removed it, stays in the history.
        </Ask>
      )}
    </section>
  );
}

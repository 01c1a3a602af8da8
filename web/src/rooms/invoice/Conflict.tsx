import type { MergeView } from "../../api/types";
import { Ask } from "../../shell/Ask";
import { SinceLines } from "./since";

/** Someone else was faster: what they changed, and what can be made of both. */
export function Conflict({
  merge,
  name,
  theirs,
  both,
}: {
  merge: MergeView;
  name: string;
  theirs: () => Promise<void>;
  both: () => void;
}) {
  const others = [...new Set(merge.since.map((row) => row.doer.name))].join(" and ") || "Someone else";
  return (
    <Ask
      title={`${others} changed this draft too`}
      yes={merge.clashes.length === 0 ? "Save both changes" : "Save mine over theirs"}
      no="Take theirs"
      careful={merge.clashes.length > 0}
      busyWords="One moment…"
      close={() => undefined}
      refuse={theirs}
      run={async () => both()}
    >
      <div>Your last change to the draft for {name} is not saved yet. In the meantime:</div>
      <ul style={{ margin: "8px 0", paddingLeft: 18 }}>
        <SinceLines since={merge.since} />
      </ul>
      {merge.clashes.length === 0 ? (
        <div>You changed other things, so both can stand.</div>
      ) : (
        <div>
          Both of you changed:
          {merge.clashes.map((clash) => (
            <div key={clash.field}>
              <b>{clash.field}</b>: was {clash.before ?? "–"}, theirs {clash.theirs ?? "–"}, yours {clash.mine ?? "–"}
            </div>
          ))}
        </div>
      )}
    </Ask>
  );
}

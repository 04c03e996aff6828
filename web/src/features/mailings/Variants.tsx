import type { Schemas } from "../../api/client";
import { TextField } from "@mui/material";
import { Arm } from "../../shared/Arm";
import { letter } from "../../shared/format";
import type { Draft } from "./draft";

type Letterhead = Schemas["Letterhead"];

/** The name a variant comes under and where its replies go, where that isn't as the letterhead has it. */
export function Senders({ d, setD, usual }: { d: Draft; setD: (d: Draft) => void; usual: Letterhead | undefined }) {
  const senders = d.senders ?? [];
  if (senders.length === 0)
    return (
      <div>
        <button
          className="plain"
          onClick={() => setD({ ...d, senders: d.subjects.map(() => ({ name: "", reply_to: "" })) })}
        >
          {d.subjects.length > 1 ? "Let sender name or reply-to differ by variant" : "Another sender name or reply-to"}
        </button>
      </div>
    );
  const put = (i: number, change: Partial<(typeof senders)[number]>) =>
    setD({
      ...d,
      senders: d.subjects.map((_, j) => ({ ...{ name: "", reply_to: "" }, ...senders[j], ...(j === i ? change : {}) })),
    });
  return (
    <>
      {d.subjects.map((_, i) => (
        <div key={i} style={{ display: "flex", gap: 10, alignItems: "center" }}>
          <Arm index={i} />
          <TextField
            label={`Sender name ${letter(i)}`}
            value={senders[i]?.name ?? ""}
            placeholder={usual?.from_name}
            slotProps={{ inputLabel: { shrink: true } }}
            onChange={(e) => put(i, { name: e.target.value })}
          />
          <TextField
            label={`Replies go to ${letter(i)}`}
            value={senders[i]?.reply_to ?? ""}
            placeholder={usual?.reply_to || usual?.from_address}
            slotProps={{ inputLabel: { shrink: true } }}
            onChange={(e) => put(i, { reply_to: e.target.value })}
          />
        </div>
      ))}
      <div>
        <button className="plain" onClick={() => setD({ ...d, senders: [] })}>
          Take both from the letterhead
        </button>
        <span className="soft small">
          {" "}
          What is left empty comes from the letterhead, and the from address always does.
        </span>
      </div>
    </>
  );
}

export function Subjects({ d, setD }: { d: Draft; setD: (d: Draft) => void }) {
  return (
    <>
      {d.subjects.map((s, i) => (
        <div key={i} style={{ display: "flex", gap: 10, alignItems: "center" }}>
          <Arm index={i} />
          <TextField
            label={`Subject ${letter(i)}`}
            value={s}
            onChange={(e) => setD({ ...d, subjects: d.subjects.map((x, j) => (j === i ? e.target.value : x)) })}
          />
        </div>
      ))}
      <div>
        {d.subjects.length < 6 && (
          <button className="plain" onClick={() => setD({ ...d, subjects: [...d.subjects, ""] })}>
            {d.subjects.length < 2 ? "Add a second subject, to try them against each other" : "Add another subject"}
          </button>
        )}
        {d.subjects.length > 1 && (
          <button
            className="plain"
            onClick={() =>
              setD({
                ...d,
                subjects: d.subjects.slice(0, -1),
                senders: (d.senders ?? []).slice(0, d.subjects.length - 1),
              })
            }
          >
            Take subject {letter(d.subjects.length - 1)} out
          </button>
        )}
        {d.subjects.length > 1 && (
          <span className="soft small">
            {" "}
            To try the preheader or the content, keep the subjects alike and write{" "}
            <code>{'{% if variant == "B" %}…{% else %}…{% endif %}'}</code>.
          </span>
        )}
      </div>
      <TextField
        label="Preheader"
        value={d.preheader ?? ""}
        helperText="What inboxes show after the subject"
        onChange={(e) => setD({ ...d, preheader: e.target.value })}
      />
    </>
  );
}

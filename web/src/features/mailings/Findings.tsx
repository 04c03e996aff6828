import { type Schemas } from "../../api/client";
import { plural } from "../../shared/format";
import type { Draft } from "./draft";
import { useCheck } from "./useCheck";

type Fix = NonNullable<Schemas["Finding"]["fix"]>;

/** A part of the draft with a fix put in: what is replaced where it stands first, or added at the end. */
function fixed(d: Draft, fix: Fix): Draft {
  const put = (text: string) => {
    if (fix.find !== "") return text.replace(fix.find, () => fix.with);
    const end = text.toLowerCase().lastIndexOf("</body>");
    return end < 0 ? text + fix.with : text.slice(0, end) + fix.with.trimStart() + text.slice(end);
  };
  const arm = /^subject (.)$/.exec(fix.part);
  if (arm) {
    const i = arm[1]!.charCodeAt(0) - 65;
    return { ...d, subjects: d.subjects.map((s, j) => (j === i ? put(s) : s)) };
  }
  if (fix.part === "preheader") return { ...d, preheader: put(d.preheader ?? "") };
  return fix.part === "text" ? { ...d, text: put(d.text) } : { ...d, html: put(d.html) };
}

type Props = {
  draft: Draft;
  mailing: number | null;
  onFix: (d: Draft) => void;
  onLine: (part: string, line: number) => void;
};

/** The message check, as one writes: what stops the mailing, what asks, and the fix where there is one. */
export function Findings({ draft, mailing, onFix, onLine }: Props) {
  const check = useCheck(draft, mailing);
  const found = check.data ?? [];
  const errors = found.filter((f) => f.level === "error").length;
  return (
    <div data-testid="check">
      <h2>Message check</h2>
      <p className={errors ? "bad" : "soft"}>
        {check.isError
          ? check.error.message
          : check.data === undefined
            ? "Checking …"
            : errors
              ? `${plural(errors, "error")}: it can't go yet.`
              : "No errors: it may go."}
      </p>
      {found.map((f, i) => (
        <p key={i} className={f.level === "error" ? "note bad" : "note"}>
          {f.line ? (
            <button className="plain" onClick={() => onLine(f.part, f.line!)}>
              <b>
                {f.part}, line {f.line}
              </b>
            </button>
          ) : (
            <b>{f.part}</b>
          )}
          : {f.words}{" "}
          {f.fix && (
            <button className="plain" onClick={() => onFix(fixed(draft, f.fix!))}>
              {f.fix.words}
            </button>
          )}
        </p>
      ))}
    </div>
  );
}

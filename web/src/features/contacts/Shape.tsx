import type { Schemas } from "../../api/client";

const DELIMITERS: Record<string, string> = { ",": "comma", ";": "semicolon", "\t": "tab", "|": "bar" };
const ENCODINGS: Record<string, string> = {
  utf8: "UTF-8",
  utf16_le: "UTF-16, little end first",
  utf16_be: "UTF-16, big end first",
  windows1252: "Latin-1",
};

/** How the file is written: said, and changed until it is applied. */
export function Shape({
  run,
  header,
  change,
}: {
  run: Schemas["Run"];
  header: boolean;
  change: ((s: Schemas["FileShape"]) => void) | null;
}) {
  return (
    <>
      {change && !run.ndjson ? (
        <>
          <select
            className="bare"
            aria-label="Encoding of the file"
            value={run.encoding}
            onChange={(e) => change({ encoding: e.target.value as Schemas["Encoding"], delimiter: run.delimiter })}
          >
            {Object.entries(ENCODINGS).map(([k, v]) => (
              <option key={k} value={k}>
                {v}
              </option>
            ))}
          </select>
          ,{" "}
          <select
            className="bare"
            aria-label="Between fields stands a"
            value={run.delimiter}
            onChange={(e) => change({ encoding: run.encoding, delimiter: e.target.value })}
          >
            {Object.entries(DELIMITERS).map(([k, v]) => (
              <option key={k} value={k}>
                {v}
              </option>
            ))}
          </select>{" "}
          between fields, {header ? "first row is a header" : "no header"}
        </>
      ) : run.ndjson ? (
        "NDJSON, one object a line"
      ) : (
        <>
          {ENCODINGS[run.encoding]}, {DELIMITERS[run.delimiter]} between fields,{" "}
          {header ? "first row is a header" : "no header"}
        </>
      )}
    </>
  );
}

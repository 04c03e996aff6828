import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { plural } from "../../shared/format";
import type { Draft } from "./draft";
import { ShownAs } from "./Preview";
import { SourceArea } from "./Source";
import { TestSend } from "./TestSend";

/** The placeholders that a text message has, beside custom fields. */
const NAMES = ["given_name", "family_name", "country", "email", "sender_name", "preferences_url"];

/** How long a message is, in words. */
function Length({ size }: { size: Schemas["TextSize"] }) {
  const unit = size.alphabet === "gsm7" ? "in the default alphabet" : "in Unicode";
  return (
    <p className={size.parts > 1 ? "wait" : "soft"} style={{ margin: "4px 0" }} data-testid="length">
      {plural(size.units, "character")} {unit}, {plural(size.parts, "part")}; {size.free} free
      {size.parts > 1 ? " in the last" : ""}.
    </p>
  );
}

/** Writes a text message beside how it reads on a phone. */
export function TextMessage({
  d,
  setD,
  draft,
  mailing,
  number,
}: {
  d: Draft;
  setD: (d: Draft) => void;
  /** As it is checked: under its letterhead. */
  draft: Draft;
  mailing: number | null;
  /** The letterhead's number for text messages. */
  number: string;
}) {
  const placeholders = useQuery(queries.placeholders);
  const [as, setAs] = useState<number | null>(null);
  const late = useDeferredValue(draft);
  const body = { draft: late, contact: as, arm: 0 };
  const shown = useQuery({
    queryKey: ["preview", body],
    queryFn: () => ok(api.POST("/api/message-preview", { body })),
    placeholderData: keepPreviousData,
    enabled: late.letterhead_id > 0,
  });
  // Those of custom fields come after the ones that letters have.
  const own = (placeholders.data ?? []).slice((placeholders.data ?? []).indexOf("variant") + 1);
  const s = shown.data;
  return (
    <div className="two" style={{ marginTop: 14 }}>
      <div>
        <SourceArea
          label="Text message"
          rows={8}
          value={d.text}
          onChange={(text) => setD({ ...d, text })}
          names={[...NAMES, ...own]}
          language="text"
        />
        <p className="soft small" style={{ margin: 0 }}>
          160 characters are one part, 153 each of several. A character outside the networks' default alphabet makes it
          70 and 67. Links are not counted: they go as they are written.
        </p>
      </div>
      <div data-testid="preview">
        {shown.isError ? (
          <p className="note bad">{shown.error.message}</p>
        ) : (
          <>
            <p className="soft small" style={{ margin: "0 0 4px" }}>
              From{" "}
              {number || (
                <>
                  no number: give the <Link to={`/setup/letterheads/${d.letterhead_id}`}>letterhead</Link> one
                </>
              )}
            </p>
            <div
              style={{
                whiteSpace: "pre-wrap",
                overflowWrap: "anywhere",
                border: "1px solid var(--rule)",
                background: "var(--deep-wash)",
                padding: "10px 12px",
                maxWidth: 340,
                minHeight: 64,
              }}
            >
              {s?.text}
            </div>
            {s?.size && <Length size={s.size} />}
          </>
        )}
        <div style={{ marginTop: 12 }}>
          <ShownAs as={as} setAs={setAs} />
        </div>
        <TestSend
          body={{ draft, contact: as, arm: 0, mailing }}
          placeholder="+44 …"
          ready={(to) => to.trim().length > 4}
        />
      </div>
    </div>
  );
}

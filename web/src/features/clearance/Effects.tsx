import { type Schemas } from "../../api/client";
import { count } from "../../shared/format";

/** What a change does to each coming mailing. */
export function Effects({ effects }: { effects: Schemas["Effect"][] }) {
  if (effects.length === 0)
    return <p className="note">No mailing is planned for the coming four weeks: the change touches none.</p>;
  return (
    <div className="note" role="status">
      {effects.map((e) => (
        <p key={e.mailing_id} style={{ margin: "2px 0" }}>
          {e.words} <span className="soft">{`${count(e.before)} before, ${count(e.after)} after.`}</span>
        </p>
      ))}
    </div>
  );
}

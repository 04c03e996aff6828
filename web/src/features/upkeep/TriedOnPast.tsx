import type { Schemas } from "../../api/client";
import { count, percent, plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";

type Both = Schemas["OpensAndClicksMoved"];

/** What judging again changes, in a line. */
export function changesInWords({ judged, all }: Schemas["MachineChanges"]) {
  const parts = [
    all.opens.out > 0 && `${plural(all.opens.out, "open")} out`,
    all.opens.back > 0 && `${plural(all.opens.back, "open")} back`,
    all.clicks.out > 0 && `${plural(all.clicks.out, "click")} out`,
    all.clicks.back > 0 && `${plural(all.clicks.back, "click")} back`,
  ].filter(Boolean);
  return `${parts.length > 0 ? parts.join(", ") : "nothing"}, of ${plural(judged, "message")}`;
}

/** What other rules would change of what is stored. */
export function TriedOnPast({
  tried: { changes, days, domains },
  rules,
}: {
  tried: Schemas["MachineRulesTried"];
  rules: Schemas["MachineRule"][];
}) {
  const { opens, clicks } = changes.all;
  const table = (name: string, head: string, of: [string, Both][]) => (
    <DataTable
      name={name}
      rows={of}
      id={(r) => r[0]}
      dense
      columns={(col) => [
        col.text(head, (r) => r[0]),
        col.number("Opens out", (r) => r[1].opens.out),
        col.number("Opens back", (r) => r[1].opens.back),
        col.number("Clicks out", (r) => r[1].clicks.out),
        col.number("Clicks back", (r) => r[1].clicks.back),
      ]}
    />
  );
  const words = (rule: string) => rules.find((r) => r.rule === rule)?.words ?? rule;
  const most = (b: Both) => b.opens.out + b.opens.back + b.clicks.out + b.clicks.back;
  const byDomain = Object.entries(changes.domains).sort((a, b) => most(b[1]) - most(a[1]));
  return (
    <section aria-label="Tried on the past">
      <p className="finding" style={{ fontSize: "1.1rem" }}>
        Of {plural(changes.judged, "message")} opened or clicked in the last {days} days these rules would take out{" "}
        <em>{count(opens.out)}</em> more opens and <em>{count(clicks.out)}</em> more clicks
        {opens.back + clicks.back > 0 && `, and bring back ${count(opens.back)} opens and ${count(clicks.back)} clicks`}
        .
      </p>
      {changes.kept > 0 && (
        <p className="soft">{plural(changes.kept, "message")} of sealed trials keep the rules of their seal.</p>
      )}
      {domains.map((d) => (
        <p key={d.domain} className="note">
          {d.domain} had {count(d.fetched)} of {plural(d.messages, "message")} ({percent(d.fetched / d.messages)})
          fetched within five minutes:{" "}
          {d.unknown ? "its people’s opens would be unknown" : "its people’s opens would be known again"}.
        </p>
      ))}
      {byDomain.length > 0 && (
        <>
          {table(
            "By rule",
            "Rule",
            Object.entries(changes.rules).map(([rule, both]) => [words(rule), both]),
          )}
          {table("By domain", "Domain", byDomain)}
        </>
      )}
    </section>
  );
}

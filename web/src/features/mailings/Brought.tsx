import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok } from "../../api/client";
import { queries } from "../../api/queries";
import { money } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";

/** What a mailing brought towards each goal. */
export function Brought({ id }: { id: number }) {
  const brought = useQuery({
    queryKey: ["brought", id],
    queryFn: () => ok(api.GET("/api/mailings/{id}/goals", { params: { path: { id } } })),
  });
  const rule = useQuery(queries.attribution).data;
  const all = brought.data ?? [];
  if (all.length === 0) return null;
  return (
    <>
      <h2>Goals</h2>
      <DataTable
        name="Goals"
        plain
        rows={all}
        id={(b) => b.goal}
        dense
        columns={(col) => [
          col.text("Goal", (b) => b.name),
          col.acts((b) => <>{b.words}</>),
          col.number("Conversions", (b) => b.conversions),
          col.number("People", (b) => b.people),
          col.text("Value, refunds off", (b) => (b.currency ? money(b.cents, b.currency) : "–"), { num: true }),
        ]}
      />
      {rule && (
        <p className="soft small">
          A conversion is put down to the {rule.by === "last_click" ? "last" : "first"} human click in the{" "}
          {rule.days === 1 ? "day" : `${rule.days} days`} before it, whichever mailing that was in (
          <Link to="/setup/goals">change this</Link>). It says what followed, not what the mailing caused: a trial or
          the holdout can tell that.
        </p>
      )}
    </>
  );
}

import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { count, words } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { More } from "../../shared/table/More";
import { Loaded } from "../../shared/states";
import { useUpkeepSlips } from "./useUpkeepSlips";

type Status = Schemas["MailStatus"];
type Cause = Schemas["Cause"];
type Order = "since" | "longest" | "address";

const SAYS: Record<Status, string> = {
  active: "",
  retired: "Never mailed again; each with the evidence.",
  resting: "Not mailed until the date, or until a cleaning run decides.",
  observed: "Back from a rest: mailed and watched.",
};

/** Addresses with a mail status, and why; all of them, a page at a time. */
export function AddressesPage() {
  const slips = useUpkeepSlips();
  const [params, setParams] = useSearchParams();
  const status = (params.get("status") ?? "retired") as Status;
  const cause = params.get("cause") as Cause | null;
  const front = useQuery(queries.upkeep);
  const begins = params.get("begins") ?? "";
  const order = (params.get("order") ?? "since") as Order;
  const query = { status, order, ...(cause && { cause }), ...(begins && { begins }) };
  const put = (key: string, value: string) =>
    setParams(
      (p) => {
        if (value) p.set(key, value);
        else p.delete(key);
        return p;
      },
      { replace: true },
    );
  const pages = useInfiniteQuery({
    queryKey: ["upkeep", "addresses", query],
    queryFn: ({ pageParam }) =>
      ok(api.GET("/api/upkeep/people", { params: { query: { ...query, ...(pageParam && { after: pageParam }) } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });
  const of = front.data?.by_cause.filter((c) => c.status === status) ?? [];
  const here = of.filter((c) => !cause || c.cause === cause);
  const all = here.reduce((n, c) => n + c.people, 0);
  return (
    <Frame slips={slips}>
      <div className="crumb">
        <span>Upkeep</span>
        <span>addresses</span>
      </div>
      <h1>{status.charAt(0).toUpperCase() + status.slice(1)}</h1>
      <p className="finding">
        <em>{count(all)}</em> {all === 1 ? "address is" : "addresses are"} {status}
        {cause && `: ${here[0]?.words ?? words(cause)}`}.
      </p>
      <p className="soft">{SAYS[status]} A block by a host is about us, and never counts against the address.</p>
      {cause && (
        <div className="filters">
          Only: {here[0]?.words ?? words(cause)}{" "}
          <button className="plain" onClick={() => put("cause", "")}>
            show all
          </button>
        </div>
      )}
      <p>
        <label>
          Begins with{" "}
          <input
            className="bare"
            type="search"
            style={{ width: 220 }}
            value={begins}
            onChange={(e) => put("begins", e.target.value)}
          />
        </label>{" "}
        <label>
          in the order of{" "}
          <select className="bare" value={order} onChange={(e) => put("order", e.target.value)}>
            <option value="since">the latest change</option>
            <option value="longest">the earliest change</option>
            <option value="address">addresses</option>
          </select>
        </label>
      </p>
      <Loaded query={pages}>
        {(d) => {
          const rows = d.pages.flatMap((p) => p.rows);
          if (rows.length === 0) return <p className="soft">Nobody.</p>;
          return (
            <>
              <DataTable
                name={`${status} addresses`}
                rows={rows}
                {...(!begins && { of: all })}
                id={(r) => r.contact_id}
                columns={(col) => [
                  col.shown(
                    "Address",
                    (r) => r.address,
                    (r) => <Link to={`/contacts/${r.contact_id}`}>{r.address}</Link>,
                  ),
                  col.day("Since", (r) => r.since),
                  status === "resting" && col.when("Until", (r) => r.until, "a run decides"),
                  col.text("Why", (r) => r.why),
                ]}
              />
              <More
                pages={pages}
                csv={`/api/upkeep/people.csv?${new URLSearchParams(query)}`}
                all={begins ? "All that begin so as CSV" : `All ${count(all)} as CSV`}
              />
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}

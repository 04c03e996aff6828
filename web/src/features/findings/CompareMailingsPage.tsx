import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, date, percent, points } from "../../shared/format";
import { Pick } from "../../shared/Pick";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { FindOut } from "./FindOut";
import { OnPaper } from "./OnPaper";
import { SaveView } from "./SaveView";
import { useFound } from "./asked";
import { useFindingsSlips } from "./useFindingsSlips";

type Beside = Schemas["MailingBeside"];

/** A figure of a mailing, and its difference to the first. */
function Cell({ of, figure }: { of: Beside; figure: Schemas["FigureDefinition"] }) {
  const [r, d] = [of.figures[figure.key], of.differences[figure.key]];
  if (!r) return <span className="soft">can’t be known</span>;
  // Its interval excludes nothing: then it isn't shown to be another.
  const apart = d && (d.lower > 0 || d.upper < 0);
  return (
    <>
      {percent(r.rate, figure.decimals)}
      <div className="soft small">
        {count(r.count)} of {count(r.of)}
      </div>
      {d && (
        <div className="small" style={{ color: apart ? "var(--deep)" : "var(--soft)" }}>
          {points(d.estimate, figure.decimals)} ({points(d.lower, figure.decimals)} to{" "}
          {points(d.upper, figure.decimals)})
        </div>
      )}
    </>
  );
}

/** Up to six mailings side by side. */
export function CompareMailingsPage() {
  const slips = useFindingsSlips();
  const [params, setParams] = useSearchParams();
  const ids = (params.get("mailings") ?? "").split(",").filter(Boolean);
  const choose = (next: string[]) => setParams(next.length > 0 ? { mailings: next.join(",") } : {}, { replace: true });
  const all = useFound({ by: "mailing", days: 36_500 });
  const sent = (all.data?.rows ?? []).filter((r) => r.started_at != null);
  const compared = useQuery({
    queryKey: ["findings-compare", ids.join(",")],
    queryFn: () => ok(api.GET("/api/findings/compare", { params: { query: { mailings: ids.join(",") } } })),
    enabled: ids.length > 0,
  });
  return (
    <Frame slips={slips}>
      <div className="crumb">
        <span>Findings</span>
        <span>compare</span>
      </div>
      <h1>Mailings side by side</h1>
      <div className="filters" style={{ display: "flex", gap: 14, alignItems: "center", flexWrap: "wrap" }}>
        {ids.map((id) => (
          <button key={id} onClick={() => choose(ids.filter((i) => i !== id))}>
            {compared.data?.mailings.find((m) => String(m.id) === id)?.name ?? `mailing ${id}`} ×
          </button>
        ))}
        {ids.length < 6 && (
          <Pick
            label="Add a mailing"
            value=""
            options={[
              ["", ids.length === 0 ? "choose a mailing …" : "add a mailing …"],
              ...sent
                .filter((s) => !ids.includes(s.key))
                .map((s) => [s.key, `${s.name}, ${date(s.started_at)}`] as const),
            ]}
            onChange={(id) => id !== "" && choose([...ids, id])}
          />
        )}
        {ids.length > 0 && <SaveView />}
      </div>
      {ids.length === 0 ? (
        <p className="finding">Choose two to six mailings: the others are held against the first.</p>
      ) : (
        <Loaded query={compared}>
          {(c) => {
            const known = c.catalogue.filter((d) => d.of && c.mailings.some((m) => (m.figures[d.key]?.count ?? 0) > 0));
            const first = c.mailings[0]!;
            const apart = (m: Beside) =>
              known.filter(
                (d) => m.differences[d.key] && (m.differences[d.key]!.lower > 0 || m.differences[d.key]!.upper < 0),
              );
            const others = c.mailings.slice(1);
            return (
              <>
                <p className="finding">
                  {others.length === 0
                    ? `${first.name} went to ${count(first.sent)} people.`
                    : others
                        .map(
                          (m) =>
                            `${m.name} differs from ${first.name} in ${apart(m).length} of ${known.length} figures`,
                        )
                        .join("; ")}
                  {others.length > 0 && "."}
                </p>
                <p className="soft" style={{ maxWidth: "62em" }}>
                  Not an experiment: who got which mailing was not left to chance. Differences are to the first, in
                  points, with 95% limits (Newcombe); one whose limits exclude 0 is drawn deep. Of so many figures one
                  in twenty would look different by chance alone.{" "}
                  {others.length > 0 && <FindOut figure={apart(others[0]!)[0] ?? known[0]!} hours={false} />}
                </p>
                <DataTable
                  name="Mailings side by side"
                  rows={known}
                  id={(d) => d.key}
                  columns={(col) => [
                    col.text("Figure", (d) => d.name),
                    ...c.mailings.map((m, i) => ({
                      ...col.shown(
                        `${m.name}${i === 0 ? " (the first)" : ""}`,
                        (d: Schemas["FigureDefinition"]) => m.figures[d.key]?.rate,
                        (d: Schemas["FigureDefinition"]) => <Cell of={m} figure={d} />,
                        { num: true },
                      ),
                      key: `mailing-${m.id}`,
                    })),
                  ]}
                />
                <p className="soft small">
                  <OnPaper />
                </p>
              </>
            );
          }}
        </Loaded>
      )}
    </Frame>
  );
}

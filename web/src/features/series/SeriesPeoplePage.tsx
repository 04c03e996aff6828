import { Button } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { instant, plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { useSeriesSlips } from "./useSeriesSlips";

const WAYS: Record<string, string> = {
  here: "there now",
  came: "came to it",
  yes: "went the yes way",
  no: "went the no way",
};

/** The people behind a figure of a series. */
export function SeriesPeoplePage() {
  const id = Number(useParams().id);
  const who = useSearchParams()[0].get("who") ?? "";
  const { slips, series } = useSeriesSlips();
  const people = useQuery({
    queryKey: ["series-people", id, who],
    queryFn: () => ok(api.GET("/api/series/{id}/people", { params: { path: { id }, query: { who } } })),
  });
  const out = useMutation({
    mutationFn: (contact: number) =>
      ok(api.DELETE("/api/series/{id}/people/{contact}", { params: { path: { id, contact } } })),
  });
  const name = series.data?.find((s) => s.id === id)?.name ?? "The series";
  const view = useQuery({
    queryKey: ["one-series", id],
    queryFn: () => ok(api.GET("/api/series/{id}", { params: { path: { id } } })),
  });
  const [how, rest] = [who.split("-")[0], who.slice(who.indexOf("-") + 1)];
  const step = view.data?.lines.find((l) => String(l.step) === rest)?.words;
  const part =
    who === "" || who === "inside" || how === "out"
      ? how === "out"
        ? rest
        : who
      : step && `${WAYS[how!] ?? how}: ${step}`;
  return (
    <Frame slips={slips}>
      <div className="crumb">
        <Link to="/series">Series</Link>
        <Link to={`/series/${id}`}>{name}</Link>
        {part && <span>{part}</span>}
      </div>
      <Loaded query={people}>
        {(all) => (
          <>
            <h1>{all.length === 500 ? "The latest 500 entries" : plural(all.length, "entry", "entries")}</h1>
            <div className="acts">
              <Button variant="outlined" href={`/api/series/${id}/people.csv?who=${encodeURIComponent(who)}`}>
                All of them as CSV
              </Button>
            </div>
            <Failure error={out.error} />
            <DataTable
              name="People of the series"
              rows={all}
              id={(_, i) => i}
              dense
              columns={(col) => [
                col.shown(
                  "Who",
                  (p) => p.address,
                  (p) => <Link to={`/contacts/${p.contact}`}>{p.address || "somebody who is gone"}</Link>,
                ),
                col.shown(
                  "Entered",
                  (p) => p.entered_at,
                  (p) => (
                    <>
                      {instant(p.entered_at)}
                      <div className="soft small">{p.cause}</div>
                    </>
                  ),
                ),
                col.shown(
                  "At the step",
                  (p) => p.at,
                  (p) => (
                    <>
                      {p.at}
                      <div className="soft small">since {instant(p.came_at)}</div>
                    </>
                  ),
                ),
                col.text("Looked at next, or out", (p) =>
                  p.ended_at != null
                    ? `${p.ended}, ${instant(p.ended_at)}`
                    : p.due != null
                      ? instant(p.due)
                      : "when its message is out",
                ),
                col.acts((p) => (
                  <>
                    {p.ended_at == null && (
                      <button
                        className="plain"
                        style={{ whiteSpace: "nowrap" }}
                        disabled={out.isPending}
                        onClick={() => out.mutate(p.contact)}
                      >
                        Take out<span className="away">: {p.address}</span>
                      </button>
                    )}
                  </>
                )),
              ]}
            />
          </>
        )}
      </Loaded>
    </Frame>
  );
}

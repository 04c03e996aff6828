import { queryOptions, useMutation, useQuery } from "@tanstack/react-query";
import { api, ok, type Schemas } from "../../api/client";
import { instant } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure } from "../../shared/states";
import { useWorking } from "../../shared/working";

const asked = queryOptions({ queryKey: ["deliveries"], queryFn: () => ok(api.GET("/api/deliveries")) });

export function Log() {
  const { show } = useWorking();
  const log = useQuery({
    ...asked,
    refetchInterval: (q) => (q.state.data?.some((d) => d.state === "waiting") ? 2000 : false),
  });
  const again = useMutation({
    mutationFn: (id: number) => ok(api.POST("/api/deliveries/{id}/again", { params: { path: { id } } })),
  });
  const all = log.data ?? [];
  if (all.length === 0) return null;
  const open = (d: Schemas["Delivery"]) =>
    show({
      title: `Message ${d.key}`,
      body: (
        <>
          <dl>
            <dt>webhook-id</dt>
            <dd>{d.key}</dd>
            <dt>Made</dt>
            <dd>{instant(d.made_at)}</dd>
            <dt>Last try</dt>
            <dd>{instant(d.tried_at)}</dd>
            <dt>Answer</dt>
            <dd>
              {d.status ?? "none"} {d.answer}
            </dd>
          </dl>
          <h3>Body</h3>
          <pre className="formula" style={{ whiteSpace: "pre-wrap", wordBreak: "break-word" }}>
            {d.body || "deleted with the person"}
          </pre>
        </>
      ),
    });
  return (
    <>
      <h2>What was told</h2>
      <DataTable
        name="What was told"
        param="told_by"
        rows={all}
        id={(d) => d.id}
        dense
        columns={(col) => [
          col.when("Made", (d) => d.made_at),
          col.text("System", (d) => d.webhook),
          col.shown(
            "State",
            (d) => d.state,
            (d) => (
              <>
                {d.state}
                {d.next_at && d.tries > 0 ? `, again ${instant(d.next_at)}` : ""}
              </>
            ),
            { tone: (d) => (d.state === "given up" ? "bad" : d.state === "waiting" ? "wait" : undefined) },
          ),
          col.number("Tries", (d) => d.tries),
          col.shown(
            "Last answer",
            (d) => d.status,
            (d) => (
              <>
                {d.status ? `${d.status} ` : ""}
                {d.answer}
              </>
            ),
          ),
          col.acts(
            (d) => (
              <>
                <button className="plain" onClick={() => open(d)}>
                  Open<span className="away"> {d.key}</span>
                </button>{" "}
                {d.state === "given up" && (
                  <button className="plain" onClick={() => again.mutate(d.id)}>
                    Try again<span className="away"> {d.key}</span>
                  </button>
                )}
              </>
            ),
            { whole: true },
          ),
        ]}
      />
      <p className="soft small">The newest 200 are shown.</p>
      <Failure error={again.error} />
    </>
  );
}

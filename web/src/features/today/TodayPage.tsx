import { Button } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { FirstSteps } from "./FirstSteps";

/** What may cost somebody something while it waits. */
const BAD = ["doubt", "cap", "notice", "trouble"];

/** First station: what needs a decision now. */
export function TodayPage() {
  const today = useQuery(queries.today);
  const doubt = useMutation({
    mutationFn: (again: boolean) => ok(api.POST("/api/today/doubt", { body: { again } })),
  });
  const settle = useMutation({
    mutationFn: (id: number) => ok(api.POST("/api/today/notices/{id}/settle", { params: { path: { id } } })),
  });
  const steps = useQuery(queries.firstSteps).data ?? [];
  const slips = (today.data ?? []).map((d) => ({ to: d.link, title: d.title, words: d.action }));
  return (
    <Frame slips={[{ title: "To decide", slips }]}>
      <Loaded query={today}>
        {(all) => (
          <>
            <div className="crumb">
              <span>Today</span>
            </div>
            <h1>What needs a decision now</h1>
            <p className="finding">
              {steps.length > 0 && (
                <>
                  <em>{plural(steps.filter((s) => !s.done && !s.optional).length, "step")}</em> to the first
                  mailing.{" "}
                </>
              )}
              {all.length > 0 ? (
                <>
                  <em>{plural(all.length, "thing")}</em> {all.length === 1 ? "waits" : "wait"} for a decision.
                </>
              ) : (
                steps.length === 0 && "Nothing waits for you."
              )}
            </p>
            {all.length === 0 && steps.length === 0 && (
              <p className="soft">Write a mailing, or look at how the last ones did.</p>
            )}
            <FirstSteps steps={steps} />
            <Failure error={doubt.error ?? settle.error} />
            {all.map((d) => (
              <section
                key={d.kind + d.title + (d.notice ?? "")}
                style={{ borderTop: "1px solid var(--rule)", padding: "10px 0 12px" }}
              >
                <h2 style={{ margin: 0 }} className={BAD.includes(d.kind) ? "bad" : ""}>
                  {d.title}
                </h2>
                <p style={{ margin: "2px 0 8px", maxWidth: "44em" }}>{d.words}</p>
                {d.kind === "doubt" ? (
                  <div className="acts">
                    <Button variant="outlined" onClick={() => doubt.mutate(true)}>
                      Send them again
                    </Button>
                    <Button variant="outlined" onClick={() => doubt.mutate(false)}>
                      Take them as sent
                    </Button>
                  </div>
                ) : d.notice ? (
                  <button className="plain" onClick={() => settle.mutate(d.notice as number)}>
                    I have seen this<span className="away">: {d.title}</span>
                  </button>
                ) : d.kind === "trouble" ? null : (
                  <Link to={d.link}>{d.action}</Link>
                )}
              </section>
            ))}
          </>
        )}
      </Loaded>
    </Frame>
  );
}

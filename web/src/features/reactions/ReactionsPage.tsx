import { Button } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { instant, plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { useMailingSlips } from "../mailings/useMailingSlips";
import { ReactionForm } from "./ReactionForm";
import { ReactionList } from "./ReactionList";

/** What reactions ask people to do. */
function Tasks() {
  const tasks = useQuery(queries.tasks);
  const settle = useMutation({
    mutationFn: ({ id, done }: { id: number; done: boolean }) =>
      ok(api.POST("/api/tasks/{id}", { params: { path: { id } }, body: { done } })),
  });
  const all = tasks.data ?? [];
  if (all.length === 0) return null;
  const open = all.filter((t) => !t.done_at).length;
  return (
    <>
      <h2>{open ? plural(open, "task") : "No open task"}</h2>
      <DataTable
        name="Tasks"
        rows={all}
        first={50}
        id={(t) => t.id}
        dense
        columns={(col) => [
          col.when("Since", (t) => t.at),
          col.text("What", (t) => t.words),
          col.shown(
            "About",
            (t) => t.address,
            (t) => <Link to={`/contacts/${t.contact}`}>{t.address || "somebody who is gone"}</Link>,
          ),
          col.acts((t) => (
            <>
              {t.done_at && (
                <span className="soft">
                  done {instant(t.done_at)}
                  {t.person ? `, ${t.person}` : ""}{" "}
                </span>
              )}
              <button className="plain" onClick={() => settle.mutate({ id: t.id, done: !t.done_at })}>
                {t.done_at ? "Open it again" : "It is done"}
                <span className="away">
                  : {t.words}, {t.address}
                </span>
              </button>
            </>
          )),
        ]}
      />
      <Failure error={settle.error} />
    </>
  );
}

/** Every reaction, and the tasks they set. */
export function ReactionsPage() {
  const { slips } = useMailingSlips();
  const [making, setMaking] = useState(false);
  const reactions = useQuery(queries.reactions);
  return (
    <Frame slips={slips}>
      <Loaded query={reactions}>
        {(all) => {
          const on = all.filter((r) => r.on_at).length;
          const done = all.reduce((n, r) => n + r.done, 0);
          return (
            <>
              <div className="crumb">
                <span>Mailings</span>
              </div>
              <h1>Reactions</h1>
              <p className="finding">
                {all.length ? (
                  <>
                    <em>{plural(on, "reaction")}</em> {on === 1 ? "is" : "are"} on; they have acted{" "}
                    {plural(done, "time")}.
                  </>
                ) : (
                  "Nothing follows yet from what people do with a message."
                )}
              </p>
              <p className="soft" style={{ maxWidth: "50em" }}>
                A reaction acts on human responses only, once for each message, purchase or event, and on what happens
                after it was switched on. Its count opens to whom and when.
              </p>
              {all.length > 0 && <ReactionList all={all} where />}
              {making ? (
                <ReactionForm mailing={null} done={() => setMaking(false)} />
              ) : (
                <div className="acts">
                  <Button variant="contained" onClick={() => setMaking(true)}>
                    Make a reaction for every mailing
                  </Button>
                  <Link to="/mailings/scores">Scores</Link>
                  <Link to="/setup/systems">Other systems</Link>
                </div>
              )}
              <Tasks />
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}

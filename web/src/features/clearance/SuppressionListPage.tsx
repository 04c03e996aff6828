import { Button, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { FileButton } from "../../shared/FileButton";
import { count, date, plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { useClearanceSlips } from "./useClearanceSlips";
import { DayPick } from "../../shared/Moment";
import { DAY } from "../../shared/time";
import { Looked, useNow, Seen } from "./suppressionParts";

type List = Schemas["SuppressionList"];

function Lines({ list }: { list: List }) {
  const [text, setText] = useState("");
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState<number | null>(null);
  const [source, setSource] = useState("");
  const add = useMutation({
    mutationFn: () =>
      ok(
        api.POST("/api/suppression/{id}/lines", {
          params: { path: { id: list.id } },
          body: { lines: text, reason, source, expires_at: until === null ? null : until * DAY },
        }),
      ),
    onSuccess: () => {
      setText("");
      setReason("");
      setUntil(null);
      setSource("");
    },
  });
  const look = useMutation({
    mutationFn: () =>
      ok(
        api.POST("/api/suppression/{id}/preview", {
          params: { path: { id: list.id } },
          body: { lines: text, reason, source, expires_at: null },
        }),
      ),
  });
  return (
    <>
      <div className="fields">
        <TextField
          label="Addresses, domains or hashes, one a line"
          multiline
          minRows={2}
          maxRows={8}
          value={text}
          onChange={(e) => {
            setText(e.target.value);
            look.reset();
          }}
          helperText="someone@tern.example, tern.example, *.tern.example for its subdomains too, or the SHA-256 of an address"
        />
        <div className="two">
          <TextField label="Reason" value={reason} onChange={(e) => setReason(e.target.value)} />
          <DayPick label="Until (none: for good)" value={until} onChange={setUntil} />
        </div>
      </div>
      <Failure error={add.error ?? look.error} />
      {look.data && (
        <Seen effects={look.data.effects}>
          They name <b>{plural(look.data.people, "person", "people")}</b> of the base now.
        </Seen>
      )}
      {add.data && (
        <p className="note good" role="status">
          {plural(add.data.new, "line")} added
          {add.data.there_already > 0 ? `; ${count(add.data.there_already)} were there already` : ""}.
        </p>
      )}
      <div className="acts">
        <Button variant="contained" disabled={!text.trim() || add.isPending} onClick={() => add.mutate()}>
          Bar them
        </Button>
        <Button variant="outlined" disabled={!text.trim() || look.isPending} onClick={() => look.mutate()}>
          See what it does
        </Button>
        <FileButton
          label="A file of addresses, domains or hashes"
          accept=".txt,.csv"
          variant="outlined"
          busy={add.isPending}
          onFile={(f) => {
            setSource(f.name);
            void f.text().then(setText);
          }}
        >
          Take lines from a file
        </FileButton>
      </div>
    </>
  );
}

/** One list: what is on it, and whom it catches. */
export function SuppressionListPage() {
  const id = Number(useParams().id);
  const { slips } = useClearanceSlips();
  const now = useNow();
  const navigate = useNavigate();
  const list = useQuery({
    queryKey: ["suppression", id],
    queryFn: () => ok(api.GET("/api/suppression/{id}", { params: { path: { id } } })),
  });
  const remove = useMutation({
    mutationFn: (line: number) => ok(api.DELETE("/api/suppression/lines/{line}", { params: { path: { line } } })),
  });
  const looked = useMutation({
    mutationFn: () => ok(api.POST("/api/suppression/{id}/looked-over", { params: { path: { id } } })),
  });
  const end = useMutation({
    mutationFn: () => ok(api.DELETE("/api/suppression/{id}", { params: { path: { id } } })),
    onSuccess: async () => {
      await navigate("/clearance/suppression");
    },
  });
  const without = useMutation({
    mutationFn: () => ok(api.GET("/api/suppression/{id}/without", { params: { path: { id } } })),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={list}>
        {({ list: l, lines, catches }) => (
          <>
            <div className="crumb">
              <Link to="/clearance/suppression">Suppression</Link>
              <span>bars from {l.scope_words}</span>
              <span>
                looked over: <Looked at={l.looked_at} now={now} />
              </span>
            </div>
            <h1>{l.name}</h1>
            <p className="finding">
              It catches <em>{plural(catches.people, "person", "people")}</em> of the base now
              {l.segment ? `: everybody who is in ${l.segment}` : ""}.
            </p>
            {l.reason && <p>{l.reason}</p>}
            <Lines key={id} list={l} />
            <Failure error={remove.error ?? looked.error ?? end.error ?? without.error} />
            {lines.length > 0 && (
              <DataTable
                name="Lines of the list"
                rows={lines}
                id={(x) => x.id}
                columns={(col) => [
                  col.text("Line", (x) => x.text),
                  col.text("Reason", (x) => x.reason),
                  col.text("From", (x) => x.source),
                  col.day("Since", (x) => x.added_at),
                  col.text("Until", (x) => (x.expires_at ? date(x.expires_at) : ""), { whole: true }),
                  col.acts(
                    (x) => (
                      <button className="plain" aria-label={`Take off ${x.text}`} onClick={() => remove.mutate(x.id)}>
                        Take off
                      </button>
                    ),
                    { num: true },
                  ),
                ]}
              />
            )}
            {catches.last.length > 0 && (
              <>
                <h2>The last {count(catches.last.length)} it caught</h2>
                {l.segment && (
                  <p className="soft">
                    Looked at once a day: the day on which somebody was first found in {l.segment}.
                  </p>
                )}
                <ul className="people" tabIndex={0} aria-label="People">
                  {catches.last.map((p) => (
                    <li key={p.id}>
                      <Link to={`/contacts/${p.id}`}>{p.address}</Link> <span className="soft">{date(p.at)}</span>
                    </li>
                  ))}
                </ul>
              </>
            )}
            {without.data && (
              <Seen effects={without.data.effects}>
                Without {l.name}, <b>{plural(without.data.people, "person", "people")}</b> would be on one list less:
              </Seen>
            )}
            <div className="acts">
              <Button variant="outlined" onClick={() => looked.mutate()}>
                Looked over, still right
              </Button>
              {l.id !== 1 && (
                <Button variant="outlined" disabled={without.isPending} onClick={() => without.mutate()}>
                  See what ending it does
                </Button>
              )}
              {l.id !== 1 && (
                <Button
                  variant="outlined"
                  color="error"
                  onClick={() =>
                    window.confirm(
                      `End ${l.name}? The ${count(catches.people)} it catches may get mail again. It stays on record.`,
                    ) && end.mutate()
                  }
                >
                  End this list
                </Button>
              )}
            </div>
          </>
        )}
      </Loaded>
    </Frame>
  );
}

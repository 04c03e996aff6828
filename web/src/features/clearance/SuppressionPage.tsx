import { Button, MenuItem, Table, TableBody, TableCell, TableHead, TableRow, TextField } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { FileButton } from "../../shared/FileButton";
import { count, date, plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { Effects } from "./Effects";
import { NearMisses } from "./NearMisses";
import { useClearanceSlips } from "./useClearanceSlips";

type List = Schemas["SuppressionList"];
const DAY = 86_400_000;

/** How long ago a list was looked over; older than half a year shows. */
function Looked({ at, now }: { at: number; now: number }) {
  const days = Math.max(0, Math.floor((now - at) / DAY));
  if (at === 0) return <span className="wait">never</span>;
  return (
    <span className={days > 180 ? "wait" : ""}>
      {days === 0 ? "today" : days === 1 ? "yesterday" : `${count(days)} days ago`}
    </span>
  );
}

function useNow() {
  return useQuery({ queryKey: ["clock"], queryFn: () => ok(api.GET("/api/clock")) }).data?.now ?? 0;
}

/** What a change would do, before it is done. */
function Seen({ effects, children }: { effects: Schemas["Effect"][]; children: ReactNode }) {
  return (
    <div role="status">
      <p>{children}</p>
      <Effects effects={effects} />
    </div>
  );
}

function NewList() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const rules = useQuery({ queryKey: ["rules"], queryFn: () => ok(api.GET("/api/rules")) });
  const segments = useQuery({ queryKey: ["segments"], queryFn: () => ok(api.GET("/api/segments")) });
  const mailings = useQuery({ queryKey: ["mailings"], queryFn: () => ok(api.GET("/api/mailings")) });
  const [name, setName] = useState("");
  const [reason, setReason] = useState("");
  const [scope, setScope] = useState("all");
  const [segment, setSegment] = useState(0);
  const [kind, id] = scope.split(" ");
  const body = {
    name,
    reason,
    scope: (kind === "all" ? { kind } : { kind, id: Number(id) }) as Schemas["SuppressionScope"],
    segment_id: segment || null,
  };
  const look = useMutation({ mutationFn: () => ok(api.POST("/api/suppression/preview", { body })) });
  const make = useMutation({
    mutationFn: () => ok(api.POST("/api/suppression", { body })),
    onSuccess: async (list) => {
      await client.invalidateQueries();
      await navigate(`/clearance/suppression/${list}`);
    },
  });
  return (
    <>
      <h2>A new list or live rule</h2>
      <div className="fields" style={{ maxWidth: 620 }}>
        <div className="two">
          <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} />
          <TextField label="Reason" value={reason} onChange={(e) => setReason(e.target.value)} />
          <TextField
            select
            label="Bars from"
            value={scope}
            onChange={(e) => {
              setScope(e.target.value);
              look.reset();
            }}
          >
            <MenuItem value="all">all mail, service mail too</MenuItem>
            {rules.data?.letterheads.map((l) => (
              <MenuItem key={`l${l.id}`} value={`letterhead ${l.id}`}>
                letterhead {l.name}
              </MenuItem>
            ))}
            {rules.data?.topics.map((t) => (
              <MenuItem key={`t${t.id}`} value={`topic ${t.id}`}>
                topic {t.name}
              </MenuItem>
            ))}
            {mailings.data
              ?.filter((m) => m.state !== "sent")
              .map((m) => (
                <MenuItem key={`m${m.id}`} value={`mailing ${m.id}`}>
                  mailing {m.name}
                </MenuItem>
              ))}
          </TextField>
          <TextField
            select
            label="Whoever is in"
            value={segment}
            onChange={(e) => {
              setSegment(Number(e.target.value));
              look.reset();
            }}
            helperText="A live rule: whoever is in the segment from now on is barred"
          >
            <MenuItem value={0}>lines only</MenuItem>
            {segments.data?.map((s) => (
              <MenuItem key={s.id} value={s.id}>
                {s.name}
              </MenuItem>
            ))}
          </TextField>
        </div>
      </div>
      <Failure error={make.error ?? look.error} />
      {look.data && (
        <Seen effects={look.data.effects}>
          It catches <b>{plural(look.data.people, "person", "people")}</b> of the base now.
        </Seen>
      )}
      <div className="acts">
        {segment > 0 && (
          <Button variant="outlined" disabled={look.isPending} onClick={() => look.mutate()}>
            See what it does
          </Button>
        )}
        <Button variant="outlined" disabled={!name.trim() || make.isPending} onClick={() => make.mutate()}>
          Make it
        </Button>
      </div>
    </>
  );
}

/** All lists and rules. */
export function SuppressionPage() {
  const { slips } = useClearanceSlips();
  const now = useNow();
  const lists = useQuery({ queryKey: ["suppression"], queryFn: () => ok(api.GET("/api/suppression")) });
  return (
    <Frame slips={slips}>
      <Loaded query={lists}>
        {(all) => (
          <>
            <div className="crumb">
              <span>Clearance</span>
            </div>
            <h1>Suppression</h1>
            <p className="finding">
              <em>{plural(all.length, "list")}</em> with{" "}
              {plural(
                all.reduce((n, l) => n + l.lines, 0),
                "line",
              )}{" "}
              bar people whatever their consent.
            </p>
            <Table>
              <TableHead>
                <TableRow>
                  <TableCell>List</TableCell>
                  <TableCell>Bars from</TableCell>
                  <TableCell className="num">Lines</TableCell>
                  <TableCell>Live rule</TableCell>
                  <TableCell>Looked over</TableCell>
                </TableRow>
              </TableHead>
              <TableBody>
                {all.map((l) => (
                  <TableRow key={l.id}>
                    <TableCell>
                      <Link to={`/clearance/suppression/${l.id}`}>{l.name}</Link>
                      {l.reason && <span className="soft"> {l.reason}</span>}
                    </TableCell>
                    <TableCell>{l.scope_words}</TableCell>
                    <TableCell className="num">{count(l.lines)}</TableCell>
                    <TableCell>{l.segment ? `whoever is in ${l.segment}` : ""}</TableCell>
                    <TableCell>
                      <Looked at={l.looked_at} now={now} />
                    </TableCell>
                  </TableRow>
                ))}
              </TableBody>
            </Table>
            <NearMisses />
            <NewList />
          </>
        )}
      </Loaded>
    </Frame>
  );
}

function Lines({ list }: { list: List }) {
  const client = useQueryClient();
  const [text, setText] = useState("");
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState("");
  const [source, setSource] = useState("");
  const add = useMutation({
    mutationFn: () =>
      ok(
        api.POST("/api/suppression/{id}/lines", {
          params: { path: { id: list.id } },
          body: { lines: text, reason, source, expires_at: until ? Date.parse(`${until}T00:00:00Z`) : null },
        }),
      ),
    onSuccess: () => {
      setText("");
      setReason("");
      setUntil("");
      setSource("");
      return client.invalidateQueries();
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
          <TextField
            label="Until (none: for good)"
            type="date"
            value={until}
            onChange={(e) => setUntil(e.target.value)}
            slotProps={{ inputLabel: { shrink: true } }}
          />
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
  const client = useQueryClient();
  const navigate = useNavigate();
  const list = useQuery({
    queryKey: ["suppression", id],
    queryFn: () => ok(api.GET("/api/suppression/{id}", { params: { path: { id } } })),
  });
  const remove = useMutation({
    mutationFn: (line: number) => ok(api.DELETE("/api/suppression/lines/{line}", { params: { path: { line } } })),
    onSuccess: () => client.invalidateQueries(),
  });
  const looked = useMutation({
    mutationFn: () => ok(api.POST("/api/suppression/{id}/looked-over", { params: { path: { id } } })),
    onSuccess: () => client.invalidateQueries(),
  });
  const end = useMutation({
    mutationFn: () => ok(api.DELETE("/api/suppression/{id}", { params: { path: { id } } })),
    onSuccess: async () => {
      await navigate("/clearance/suppression");
      await client.invalidateQueries();
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
              {l.segment ? `: whoever is in ${l.segment}` : ""}.
            </p>
            {l.reason && <p>{l.reason}</p>}
            <Lines key={id} list={l} />
            <Failure error={remove.error ?? looked.error ?? end.error ?? without.error} />
            {lines.length > 0 && (
              <Table>
                <TableHead>
                  <TableRow>
                    <TableCell>Line</TableCell>
                    <TableCell>Reason</TableCell>
                    <TableCell>From</TableCell>
                    <TableCell>Since</TableCell>
                    <TableCell>Until</TableCell>
                    <TableCell />
                  </TableRow>
                </TableHead>
                <TableBody>
                  {lines.map((x) => (
                    <TableRow key={x.id}>
                      <TableCell style={{ overflowWrap: "anywhere" }}>{x.text}</TableCell>
                      <TableCell>{x.reason}</TableCell>
                      <TableCell className="soft">{x.source}</TableCell>
                      <TableCell style={{ whiteSpace: "nowrap" }}>{date(x.added_at)}</TableCell>
                      <TableCell style={{ whiteSpace: "nowrap" }}>{x.expires_at ? date(x.expires_at) : ""}</TableCell>
                      <TableCell className="num">
                        <button className="plain" aria-label={`Take off ${x.text}`} onClick={() => remove.mutate(x.id)}>
                          Take off
                        </button>
                      </TableCell>
                    </TableRow>
                  ))}
                </TableBody>
              </Table>
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

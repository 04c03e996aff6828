import { Button, Table, TableBody, TableCell, TableHead, TableRow, TextField } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, date, instant, plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { useWorking } from "../../shared/working";
import { useMailingSlips } from "../mailings/useMailingSlips";

function Log() {
  const client = useQueryClient();
  const { show } = useWorking();
  const log = useQuery({
    queryKey: ["deliveries"],
    queryFn: () => ok(api.GET("/api/deliveries")),
    refetchInterval: (q) => (q.state.data?.some((d) => d.state === "waiting") ? 2000 : false),
  });
  const again = useMutation({
    mutationFn: (id: number) => ok(api.POST("/api/deliveries/{id}/again", { params: { path: { id } } })),
    onSuccess: () => client.invalidateQueries(),
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
      <Table size="small">
        <TableHead>
          <TableRow>
            <TableCell>Made</TableCell>
            <TableCell>System</TableCell>
            <TableCell>State</TableCell>
            <TableCell className="num">Tries</TableCell>
            <TableCell>Last answer</TableCell>
            <TableCell />
          </TableRow>
        </TableHead>
        <TableBody>
          {all.map((d) => (
            <TableRow key={d.id}>
              <TableCell style={{ whiteSpace: "nowrap" }}>{instant(d.made_at)}</TableCell>
              <TableCell>{d.webhook}</TableCell>
              <TableCell className={d.state === "given up" ? "bad" : d.state === "waiting" ? "wait" : undefined}>
                {d.state}
                {d.next_at && d.tries > 0 ? `, again ${instant(d.next_at)}` : ""}
              </TableCell>
              <TableCell className="num">{d.tries}</TableCell>
              <TableCell>
                {d.status ? `${d.status} ` : ""}
                {d.answer}
              </TableCell>
              <TableCell style={{ whiteSpace: "nowrap" }}>
                <button className="plain" onClick={() => open(d)}>
                  Open<span className="away"> {d.key}</span>
                </button>{" "}
                {d.state === "given up" && (
                  <button className="plain" onClick={() => again.mutate(d.id)}>
                    Try again<span className="away"> {d.key}</span>
                  </button>
                )}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      <p className="soft small">The newest 200 are shown.</p>
      <Failure error={again.error} />
    </>
  );
}

/** Who may bring mail: each source posts to an address of its own. */
function Doors() {
  const client = useQueryClient();
  const doors = useQuery({ queryKey: ["doors"], queryFn: () => ok(api.GET("/api/doors")) });
  const [name, setName] = useState("");
  const make = useMutation({
    mutationFn: () => ok(api.POST("/api/doors", { body: { name } })),
    onSuccess: () => {
      setName("");
      return client.invalidateQueries({ queryKey: ["doors"] });
    },
  });
  const end = useMutation({
    mutationFn: (id: number) => ok(api.DELETE("/api/doors/{id}", { params: { path: { id } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["doors"] }),
  });
  const all = doors.data ?? [];
  return (
    <>
      <h2>Doors for mail</h2>
      <p className="soft" style={{ maxWidth: "50em" }}>
        Delivery reports, complaints and replies come in as raw mail, posted to an address that only their source knows.
        Give each source a door of its own. Mail that a mail program puts into the data folder’s mailbox needs none.
      </p>
      {all.length > 0 && (
        <Table size="small">
          <TableHead>
            <TableRow>
              <TableCell>Source</TableCell>
              <TableCell>Made</TableCell>
              <TableCell>Last used</TableCell>
              <TableCell />
            </TableRow>
          </TableHead>
          <TableBody>
            {all.map((d) => (
              <TableRow key={d.id}>
                <TableCell>{d.name}</TableCell>
                <TableCell>{instant(d.made_at)}</TableCell>
                <TableCell>{d.used_at ? date(d.used_at) : "never"}</TableCell>
                <TableCell>
                  <button className="plain bad" onClick={() => end.mutate(d.id)}>
                    Close<span className="away"> the door of {d.name}</span>
                  </button>
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      {make.data && (
        <div role="status">
          <p style={{ marginBottom: 4 }}>It posts raw mail here. This address is shown once:</p>
          <div className="formula" style={{ wordBreak: "break-all" }}>
            {make.data.url}
          </div>
        </div>
      )}
      <div className="fields" style={{ maxWidth: 350, marginTop: 14 }}>
        <TextField label="Who will bring mail" value={name} onChange={(e) => setName(e.target.value)} />
      </div>
      <Failure error={doors.error ?? make.error ?? end.error} />
      <div className="acts">
        <Button variant="outlined" disabled={!name.trim() || make.isPending} onClick={() => make.mutate()}>
          Open a door
        </Button>
      </div>
    </>
  );
}

/** Other systems that reactions tell. */
export function WebhooksPage() {
  const { slips } = useMailingSlips();
  const client = useQueryClient();
  const { show } = useWorking();
  const clock = useQuery({ queryKey: ["clock"], queryFn: () => ok(api.GET("/api/clock")) });
  const webhooks = useQuery({ queryKey: ["webhooks"], queryFn: () => ok(api.GET("/api/webhooks")) });
  const [name, setName] = useState("");
  const [url, setUrl] = useState("");
  const after = { onSuccess: () => client.invalidateQueries() };
  const make = useMutation({
    mutationFn: () => ok(api.POST("/api/webhooks", { body: { name, url } })),
    onSuccess: () => {
      setName("");
      setUrl("");
      return client.invalidateQueries();
    },
  });
  const test = useMutation({
    mutationFn: (id: number) => ok(api.POST("/api/webhooks/{id}/test", { params: { path: { id } } })),
    ...after,
  });
  const end = useMutation({
    mutationFn: (id: number) => ok(api.DELETE("/api/webhooks/{id}", { params: { path: { id } } })),
    ...after,
  });
  const secret = useMutation({
    mutationFn: (id: number) => ok(api.POST("/api/webhooks/{id}/secret", { params: { path: { id } } })),
    onSuccess: ({ secret: s }) =>
      show({
        title: "Secret",
        body: (
          <>
            <p>The receiver checks signatures with it. In hexadecimal:</p>
            <div className="formula" style={{ wordBreak: "break-all" }}>
              {s}
            </div>
            <p className="soft small">
              HMAC-SHA256 over webhook-id, webhook-timestamp and body, joined by full stops; in webhook-signature as
              “v1,” and base64. Refuse a timestamp more than five minutes off, and keep the ids you have seen.
            </p>
          </>
        ),
      }),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={webhooks}>
        {(all) => {
          const live = all.filter((w) => !w.ended_at);
          const lost = all.reduce((n, w) => n + w.given_up, 0);
          return (
            <>
              <div className="crumb">
                <Link to="/mailings/reactions">Reactions</Link>
              </div>
              <h1>Other systems</h1>
              <p className="finding">
                {live.length ? (
                  <>
                    <em>{plural(live.length, "system")}</em> {live.length === 1 ? "is" : "are"} told by reactions
                    {lost > 0 && `; ${plural(lost, "message was", "messages were")} given up`}.
                  </>
                ) : (
                  "No other system is told anything."
                )}
              </p>
              <p className="soft" style={{ maxWidth: "50em" }}>
                A message is posted as JSON, signed, and tried again for about a day until it is answered with success;
                one that comes twice has the same id. Rinse asks no outside host: give an address on this machine.
              </p>
              {all.length > 0 && (
                <Table>
                  <TableHead>
                    <TableRow>
                      <TableCell>Name</TableCell>
                      <TableCell>Address</TableCell>
                      <TableCell className="num">Told</TableCell>
                      <TableCell className="num">Waiting</TableCell>
                      <TableCell className="num">Given up</TableCell>
                      <TableCell />
                    </TableRow>
                  </TableHead>
                  <TableBody>
                    {all.map((w) => (
                      <TableRow key={w.id}>
                        <TableCell>{w.name}</TableCell>
                        <TableCell style={{ wordBreak: "break-all" }}>{w.url}</TableCell>
                        <TableCell className="num">{count(w.delivered)}</TableCell>
                        <TableCell className="num">{count(w.waiting)}</TableCell>
                        <TableCell className="num">{count(w.given_up)}</TableCell>
                        <TableCell>
                          {w.ended_at ? (
                            <span className="soft">
                              ended {instant(w.ended_at)}: {w.why_ended}
                            </span>
                          ) : (
                            <>
                              <button className="plain" onClick={() => test.mutate(w.id)}>
                                Send a test<span className="away"> to {w.name}</span>
                              </button>{" "}
                              <button className="plain" onClick={() => secret.mutate(w.id)}>
                                Secret<span className="away"> of {w.name}</span>
                              </button>{" "}
                              <button className="plain bad" onClick={() => end.mutate(w.id)}>
                                End<span className="away"> {w.name}</span>
                              </button>
                            </>
                          )}
                        </TableCell>
                      </TableRow>
                    ))}
                  </TableBody>
                </Table>
              )}
              <Failure error={test.error ?? end.error ?? secret.error} />
              <h2>Another system</h2>
              <div className="fields" style={{ maxWidth: 720 }}>
                <div className="two">
                  <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} />
                  <TextField
                    label="Address"
                    value={url}
                    onChange={(e) => setUrl(e.target.value)}
                    helperText={
                      clock.data?.demo
                        ? "http://127.0.0.1:PORT/…, or /standin/records for the record system that ships with Rinse"
                        : "http://127.0.0.1:PORT/…"
                    }
                  />
                </div>
              </div>
              <Failure error={make.error} />
              <div className="acts">
                <Button
                  variant="outlined"
                  disabled={!name.trim() || !url.trim() || make.isPending}
                  onClick={() => make.mutate()}
                >
                  Tell this system
                </Button>
              </div>
              <Doors />
              <Log />
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}

import { Button, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { instant, plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { useWorking } from "../../shared/working";
import { useSetupSlips } from "./useSetupSlips";
import { Log } from "./DeliveryLog";
import { Doors } from "./Doors";

/** Other systems that reactions tell. */
export function WebhooksPage() {
  const slips = useSetupSlips();
  const { show } = useWorking();
  const clock = useQuery(queries.clock);
  const webhooks = useQuery(queries.webhooks);
  const [name, setName] = useState("");
  const [url, setUrl] = useState("");
  const make = useMutation({
    mutationFn: () => ok(api.POST("/api/webhooks", { body: { name, url } })),
    onSuccess: () => {
      setName("");
      setUrl("");
    },
  });
  const test = useMutation({
    mutationFn: (id: number) => ok(api.POST("/api/webhooks/{id}/test", { params: { path: { id } } })),
  });
  const end = useMutation({
    mutationFn: (id: number) => ok(api.DELETE("/api/webhooks/{id}", { params: { path: { id } } })),
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
                <DataTable
                  name="Systems"
                  rows={all}
                  id={(w) => w.id}
                  columns={(col) => [
                    col.text("Name", (w) => w.name),
                    col.text("Address", (w) => w.url),
                    col.number("Told", (w) => w.delivered),
                    col.number("Waiting", (w) => w.waiting),
                    col.number("Given up", (w) => w.given_up),
                    col.acts((w) => (
                      <>
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
                      </>
                    )),
                  ]}
                />
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

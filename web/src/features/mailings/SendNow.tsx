import { Button } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { api, ok } from "../../api/client";
import { count, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { Hosts } from "./Hosts";

/** The last question before a mailing goes out at once: to how many. */
export function SendNow({
  mailing,
  busy,
  send,
  stay,
}: {
  mailing: number;
  busy: boolean;
  send: () => void;
  stay: () => void;
}) {
  const sluice = useQuery({
    queryKey: ["sluice", mailing],
    queryFn: () => ok(api.GET("/api/mailings/{id}/sluice", { params: { path: { id: mailing } } })),
  });
  return (
    <Loaded query={sluice}>
      {(s) => (
        <div className="note" role="status">
          It goes to <b>{plural(s.cleared, "person", "people")}</b> of {count(s.selected)} now
          {s.held > 0 && <>; {count(s.held)} are held, and get it as soon as they may</>}. What is on its way can be
          paused and the rest stopped; what has gone out can't be called back.
          <Hosts mailing={mailing} />
          <div className="acts">
            <Button variant="contained" disabled={busy || s.cleared + s.held === 0} onClick={send}>
              Send it to {plural(s.cleared + s.held, "person", "people")}
            </Button>
            <Button variant="outlined" onClick={stay}>
              Not yet
            </Button>
          </div>
        </div>
      )}
    </Loaded>
  );
}

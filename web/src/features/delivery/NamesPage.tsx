import { Button, Table, TableBody, TableCell, TableHead, TableRow, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { instant, plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { deliverySlips } from "./slips";

type Line = Schemas["AuthenticationLine"];
type Sender = Schemas["SenderLooked"];

const CHECK: Record<Line["check"], string> = {
  spf: "SPF",
  dkim: "DKIM",
  dmarc: "DMARC",
  reverse_name: "Name of the sending address",
  one_click: "One-click leaving",
  replies: "Mail to the sender",
};

const STATE: Record<Line["state"], string> = { right: "right", wrong: "wrong", cant_tell: "can’t be told" };

const COLOUR: Record<Line["state"], string> = { right: "var(--deep)", wrong: "var(--brick)", cant_tell: "var(--soft)" };

/** What was found of one thing, with the record to publish. */
function Row({ l }: { l: Line }) {
  return (
    <TableRow>
      <TableCell style={{ whiteSpace: "nowrap" }}>{CHECK[l.check]}</TableCell>
      <TableCell style={{ color: COLOUR[l.state], whiteSpace: "nowrap" }}>{STATE[l.state]}</TableCell>
      <TableCell>
        {l.words}
        {l.found.map((f) => (
          <div key={f} className="soft small">
            found: <code style={{ overflowWrap: "anywhere" }}>{f}</code>
          </div>
        ))}
        {l.publish && (
          <div className="small">
            to publish: <code>{l.publish.name}</code> {l.publish.kind}{" "}
            <code style={{ overflowWrap: "anywhere" }}>{l.publish.value}</code>
          </div>
        )}
      </TableCell>
    </TableRow>
  );
}

function SenderNote({ s }: { s: Sender }) {
  return (
    <section aria-label={s.name}>
      <h2>
        {s.name} <span className="soft small">{s.from_address}</span>
      </h2>
      {s.looked_at == null ? (
        <p className="soft">DNS wasn’t looked at yet.</p>
      ) : (
        <Table size="small" aria-label={`What DNS says of ${s.name}`}>
          <TableHead>
            <TableRow>
              <TableCell>What</TableCell>
              <TableCell>Is</TableCell>
              <TableCell>Found, and to do</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {s.lines.map((l, i) => (
              <Row key={`${l.check}${i}`} l={l} />
            ))}
          </TableBody>
        </Table>
      )}
    </section>
  );
}

/** The addresses that mail goes out from. */
function Addresses({ addresses }: { addresses: string[] }) {
  const [text, setText] = useState(addresses.join(" "));
  const keep = useMutation({
    mutationFn: () =>
      ok(
        api.PUT("/api/delivery/names/addresses", {
          body: { addresses: text.split(/[\s,;]+/).filter(Boolean) },
        }),
      ),
  });
  return (
    <form
      className="acts"
      onSubmit={(e) => {
        e.preventDefault();
        keep.mutate();
      }}
    >
      <TextField
        size="small"
        label="Addresses our mail goes out from"
        value={text}
        onChange={(e) => setText(e.target.value)}
        style={{ width: "28em" }}
        slotProps={{ htmlInput: { maxLength: 2000 } }}
      />
      <Button type="submit" variant="outlined" size="small" disabled={keep.isPending}>
        Keep
      </Button>
      {keep.isSuccess && <span className="soft">Kept. Look again to hold the records against them.</span>}
      <Failure error={keep.error} />
    </form>
  );
}

/** What is asked of DNS about our senders, and its answers. */
export function NamesPage() {
  const names = useQuery({ queryKey: ["our-names"], queryFn: () => ok(api.GET("/api/delivery/names")) });
  const look = useMutation({ mutationFn: () => ok(api.POST("/api/delivery/names/look")) });
  return (
    <Frame slips={deliverySlips}>
      <Loaded query={names}>
        {(v) => {
          const wrong = v.senders.filter((s) => s.lines.some((l) => l.state === "wrong"));
          const looked = v.senders.map((s) => s.looked_at).find((at) => at != null);
          return (
            <>
              <div className="crumb">
                <span>Delivery</span>
                {looked != null && <span>as of {instant(looked)} UTC</span>}
              </div>
              <h1>Authentication</h1>
              <p className="finding">
                {!v.dns && looked == null ? (
                  "Nobody can be asked: Rinse was started without a name server."
                ) : looked == null ? (
                  "Nobody has looked into DNS yet: it is done once a day, or now."
                ) : wrong.length === 0 ? (
                  <>
                    Hosts find what they look for of{" "}
                    <em>{v.senders.length === 1 ? "the sender" : `all ${plural(v.senders.length, "sender")}`}</em>, as
                    far as can be told.
                  </>
                ) : (
                  <>
                    Something is wrong with <em>{wrong.map((s) => s.name).join(", ")}</em>:{" "}
                    {wrong
                      .flatMap((s) => s.lines)
                      .filter((l) => l.state === "wrong")
                      .map((l) => CHECK[l.check])
                      .filter((c, i, all) => all.indexOf(c) === i)
                      .join(", ")}
                    .
                  </>
                )}
              </p>
              {!v.dns && (
                <p className="note">
                  No outside host is asked unless you say so: start Rinse with <code>--dns system</code>, or with the
                  address of a name server. <code>rinse doctor</code> does the same from a command line.
                </p>
              )}
              <div className="acts">
                <Button
                  variant="contained"
                  size="small"
                  disabled={look.isPending || !v.dns}
                  onClick={() => look.mutate()}
                >
                  Look again
                </Button>
                {look.isPending && <span className="soft">Asking DNS …</span>}
              </div>
              <Failure error={look.error} />
              <Addresses addresses={v.addresses} />
              {v.senders.map((s) => (
                <SenderNote key={s.letterhead_id} s={s} />
              ))}
              <p className="soft small">
                Keys are made on a letterhead’s page in <Link to="/setup">Setup</Link>. Blocklists have{" "}
                <Link to="/delivery/blocklists">a page of their own</Link>.
              </p>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}

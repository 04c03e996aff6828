import { Button } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { FileButton } from "../../shared/FileButton";
import { count, instant, plural } from "../../shared/format";
import { Pick } from "../../shared/Pick";
import { Failure } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { useClearanceSlips } from "./useClearanceSlips";

type Cleared = Schemas["ClearedAddresses"];
type Told = Schemas["AddressCleared"];

const SAYS: Record<Told["says"], string> = {
  cleared: "may be written to",
  held: "has to wait",
  barred: "mustn’t be written to",
  unreadable: "is no address",
};

/** A file was cleared: how many may be written to, and each address with what is said of it. */
function Answers({ a }: { a: Cleared }) {
  return (
    <>
      <p className="finding">
        <em>{count(a.cleared)}</em> of {plural(a.people.length, "address", "addresses")} may be written to now
        {a.held > 0 && `, ${count(a.held)} ${a.held === 1 ? "has" : "have"} to wait`}
        {a.barred > 0 && `, ${count(a.barred)} mustn’t be`}
        {a.unreadable > 0 && `, ${count(a.unreadable)} ${a.unreadable === 1 ? "is" : "are"} no address`}.
      </p>
      <p className="soft small">
        As of {instant(a.at)}, by version {a.rules_version} of the rules. Nothing was kept of it.
      </p>
      <DataTable<Told>
        name="Cleared addresses"
        rows={a.people}
        id={(p) => p.address}
        columns={(col) => [
          col.text("Address", (p) => p.address),
          col.text("It", (p) => SAYS[p.says]),
          col.when("From", (p) => p.until),
          col.text("Why", (p) => p.words),
        ]}
      />
    </>
  );
}

/** Who is told of each change. */
function TellWhom() {
  const webhooks = useQuery(queries.webhooks);
  const told = useQuery({ queryKey: ["do-not-write"], queryFn: () => ok(api.GET("/api/do-not-write/webhook")) });
  const tell = useMutation({
    mutationFn: (webhook: number | null) => ok(api.PUT("/api/do-not-write/webhook", { body: { webhook } })),
  });
  const open = (webhooks.data ?? []).filter((w) => w.ended_at == null);
  return (
    <p>
      Told as it happens, signed:{" "}
      <Pick
        label="System that is told whom not to write to"
        value={told.data?.webhook ?? 0}
        options={[[0, "nobody"] as const, ...open.map((w) => [w.id, w.name] as const)]}
        onChange={(id) => tell.mutate(id === 0 ? null : id)}
      />
      . Systems are entered under <Link to="/setup/systems">Setup, other systems</Link>.
      <Failure error={tell.error} />
    </p>
  );
}

/** For mail that another system sends: who may be written to, by what is known here. */
export function ElsewherePage() {
  const { slips } = useClearanceSlips();
  const topics = useQuery(queries.topics);
  const letterheads = useQuery(queries.letterheads);
  const [topic, setTopic] = useState("");
  const [letterhead, setLetterhead] = useState(0);
  const [cleared, setCleared] = useState<Cleared>();
  const clear = useMutation({
    mutationFn: async (file: File) =>
      ok(
        api.POST("/api/clear", {
          body: {
            file: await file.text(),
            topic: topic || null,
            letterhead: letterhead || null,
          },
        }),
      ),
    onSuccess: setCleared,
  });
  return (
    <Frame slips={slips}>
      <div className="crumb">
        <span>Clearance</span>
      </div>
      <h1>Sent by another system</h1>
      {cleared ? (
        <Answers a={cleared} />
      ) : (
        <p className="finding">Before another system writes to people, ask here whether it may.</p>
      )}
      <p className="soft" style={{ maxWidth: "62em" }}>
        A table with a column of addresses, whatever it is called. Each is held against the consent, the suppression
        lists, the caps and the hours of here, as if the mail went out now; who isn’t in the base has no consent on
        record. For more than 100,000 addresses there is <code>rinse clear --file</code>, for programs{" "}
        <code>POST /api/clear</code>.
      </p>
      <div className="acts">
        <span>
          It is about{" "}
          <Pick
            label="Topic"
            value={topic}
            options={[["", "no topic"] as const, ...(topics.data ?? []).map((t) => [t.name, t.name] as const)]}
            onChange={setTopic}
          />
          , and comes from{" "}
          <Pick<number>
            label="Letterhead"
            value={letterhead}
            options={[
              [0, "the letterhead of new mailings"] as const,
              ...(letterheads.data ?? []).map((l) => [l.id ?? 0, l.name] as const),
            ]}
            onChange={setLetterhead}
          />
        </span>
        <FileButton
          label="File of addresses"
          accept=".csv,.tsv,.txt"
          variant="contained"
          busy={clear.isPending}
          onFile={(f) => clear.mutate(f)}
        >
          {clear.isPending ? "Asking …" : "Choose a file"}
        </FileButton>
      </div>
      <Failure error={clear.error} />
      <h2>Whom it must not write to</h2>
      <p className="soft" style={{ maxWidth: "62em" }}>
        Who withdrew, complained, left a topic, whose address is retired, and what stands on suppression lists that bar
        everything: take the list in full now and then, since who agrees again is no longer on it.
      </p>
      <div className="acts">
        <Button variant="outlined" size="small" component="a" href="/api/do-not-write.csv">
          As CSV
        </Button>
        <Button variant="outlined" size="small" component="a" href="/api/do-not-write.csv?hashed=true">
          As SHA-256
        </Button>
      </div>
      <TellWhom />
    </Frame>
  );
}

import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api, ok, type Schemas, upload } from "../../api/client";
import { Frame } from "../../app/Frame";
import { FileButton } from "../../shared/FileButton";
import { count, plural } from "../../shared/format";
import { Failure } from "../../shared/states";
import { useContactSlips } from "./useContactSlips";

/** First step of an import: the file. */
export function ImportPage() {
  const navigate = useNavigate();
  const slips = useContactSlips();
  const take = useMutation({
    mutationFn: upload,
    onSuccess: async (run) => {
      await navigate(`/contacts/import/${run.id}`);
    },
  });
  return (
    <Frame slips={slips}>
      <div className="crumb">
        <span>Contacts</span>
        <span>Import, step 1 of 3</span>
      </div>
      <h1>Import people from a file</h1>
      <p className="finding">Choose a CSV, TSV or NDJSON file with one address per row.</p>
      <p className="soft" style={{ maxWidth: "46em" }}>
        Delimiter, encoding and header are found out and shown. Nothing is written before you have seen what it would
        do, the same file twice changes nothing, and an import can be taken back for 30 days. Scores from elsewhere come
        the same way: map a column to the score and another to its day.
      </p>
      <Failure error={take.error} />
      <div className="acts">
        <FileButton
          label="File"
          accept=".csv,.tsv,.txt,.ndjson,.jsonl"
          variant="contained"
          busy={take.isPending}
          onFile={(f) => take.mutate(f)}
        >
          {take.isPending ? "Reading the file …" : "Choose a file"}
        </FileButton>
      </div>
      <Facts
        title="Purchases"
        word="purchase"
        about="A CSV with the columns key, address, at, value, currency, product and, if you like, category; or the same as NDJSON. A refund has a negative value. The same key twice is one purchase."
        send={(body) => ok(api.POST("/api/purchases", { body, ...AS_TEXT }))}
      />
      <Facts
        title="Events"
        word="event"
        about="What people did elsewhere: a CSV with the columns key, address, at, name and, if you like, about; or the same as NDJSON. The same key twice is one event."
        send={(body) => ok(api.POST("/api/events", { body, ...AS_TEXT }))}
      />
    </Frame>
  );
}

const AS_TEXT = { bodySerializer: (b: string) => b, headers: { "content-type": "text/csv" } };

type FactsProps = {
  title: string;
  word: string;
  about: string;
  send: (body: string) => Promise<Schemas["FactsTaken"]>;
};

/** What people bought or did, from the till, the shop or anywhere else. */
function Facts({ title, word, about, send }: FactsProps) {
  const take = useMutation({
    mutationFn: async (f: File) => send(await f.text()),
  });
  return (
    <>
      <h2>{title}</h2>
      <p className="soft" style={{ maxWidth: "46em" }}>
        {about}
      </p>
      <Failure error={take.error} />
      {take.data && (
        <>
          <p className="note good" role="status">
            {plural(take.data.new, word)} new, {count(take.data.known)} there already, {count(take.data.refused)}{" "}
            refused.
          </p>
          <ul>
            {take.data.reasons.slice(0, 10).map((r) => (
              <li key={r.line}>
                Line {count(r.line)}: {r.reason}
              </li>
            ))}
          </ul>
        </>
      )}
      <div className="acts">
        <FileButton
          label={title}
          accept=".csv,.ndjson,.jsonl,.txt"
          variant="outlined"
          busy={take.isPending}
          onFile={(f) => take.mutate(f)}
        >
          {take.isPending ? "Taking them in …" : `Take ${word}s in`}
        </FileButton>
      </div>
    </>
  );
}

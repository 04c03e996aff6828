import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api, ok, upload } from "../../api/client";
import { Frame } from "../../app/Frame";
import { FileButton } from "../../shared/FileButton";
import { count, plural } from "../../shared/format";
import { Failure } from "../../shared/states";
import { useContactSlips } from "./useContactSlips";

/** First step of an import: the file. */
export function ImportPage() {
  const navigate = useNavigate();
  const client = useQueryClient();
  const slips = useContactSlips();
  const take = useMutation({
    mutationFn: upload,
    onSuccess: async (run) => {
      await client.invalidateQueries({ queryKey: ["imports"] });
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
      <p className="finding">Choose a CSV or TSV file with one address per row.</p>
      <p className="soft" style={{ maxWidth: "46em" }}>
        Delimiter, encoding and header are found out and shown. Nothing is written before you have seen what it would
        do, and the same file twice changes nothing.
      </p>
      <Failure error={take.error} />
      <div className="acts">
        <FileButton
          label="File"
          accept=".csv,.tsv,.txt"
          variant="contained"
          busy={take.isPending}
          onFile={(f) => take.mutate(f)}
        >
          {take.isPending ? "Reading the file …" : "Choose a file"}
        </FileButton>
      </div>
      <Purchases />
    </Frame>
  );
}

/** What people bought, from the till or the shop. */
function Purchases() {
  const client = useQueryClient();
  const take = useMutation({
    mutationFn: async (f: File) =>
      ok(
        api.POST("/api/purchases", {
          body: await f.text(),
          bodySerializer: (b) => b,
          headers: { "content-type": "text/csv" },
        }),
      ),
    onSuccess: () => client.invalidateQueries(),
  });
  return (
    <>
      <h2>Purchases</h2>
      <p className="soft" style={{ maxWidth: "46em" }}>
        A CSV with the columns key, address, at, value, currency, product and, if you like, category; or the same as
        NDJSON. A refund has a negative value. The same key twice is one purchase.
      </p>
      <Failure error={take.error} />
      {take.data && (
        <>
          <p className="note good" role="status">
            {plural(take.data.new, "purchase")} new, {count(take.data.known)} there already, {count(take.data.refused)}{" "}
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
          label="Purchases"
          accept=".csv,.ndjson,.jsonl,.txt"
          variant="outlined"
          busy={take.isPending}
          onFile={(f) => take.mutate(f)}
        >
          {take.isPending ? "Taking them in …" : "Take purchases in"}
        </FileButton>
      </div>
    </>
  );
}

import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { Frame } from "../../app/Frame";
import { FileButton } from "../../shared/FileButton";
import { count, plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { files, outsideMailings, STATE, uploadHistory } from "./history";
import { useMailingSlips } from "./useMailingSlips";

/** Mailings that another system sent: bring them in, and see what is known of them. */
export function ElsewherePage() {
  const { slips } = useMailingSlips();
  const navigate = useNavigate();
  const mailings = useQuery(outsideMailings);
  const brought = useQuery(files);
  const take = useMutation({
    mutationFn: uploadHistory,
    onSuccess: async (f) => {
      await navigate(`/mailings/elsewhere/${f.id}`);
    },
  });
  return (
    <Frame slips={slips}>
      <div className="crumb">
        <span>Mailings</span>
        <span>Sent elsewhere</span>
      </div>
      <h1>Sent elsewhere</h1>
      <Loaded query={mailings}>
        {(all) => (
          <>
            <p className="finding">
              {all.length ? (
                <>
                  <em>{plural(all.length, "mailing")}</em> of another system {all.length === 1 ? "is" : "are"} known:
                  Findings, recency, mail load and the bounce policy count {all.length === 1 ? "it" : "them"} in.
                </>
              ) : (
                "Nothing of what another system sent is known yet."
              )}
            </p>
            <p className="soft" style={{ maxWidth: "46em" }}>
              Bring its log: a table of mailings (key, name, subject, when sent), and one or more of events (address,
              mailing, what happened, when), as CSV or NDJSON, also packed as gz or zip. Columns are found out and
              shown. Nothing is written before you have seen what it would do, the same file twice changes nothing, and
              a file can be taken back for 30 days. A system that tells events as they happen posts them to a door:{" "}
              <Link to="/setup/systems">Other systems</Link>.
            </p>
            <Failure error={take.error} />
            <div className="acts">
              <FileButton
                label="Log of another system"
                accept=".csv,.tsv,.txt,.ndjson,.jsonl,.gz,.zip"
                variant="contained"
                busy={take.isPending}
                onFile={(f) => take.mutate(f)}
              >
                {take.isPending ? "Reading the file …" : "Choose a file"}
              </FileButton>
            </div>
            {all.length > 0 && (
              <DataTable
                name="Sent elsewhere"
                rows={all}
                id={(m) => m.mailing_id}
                columns={(col) => [
                  col.shown(
                    "Mailing",
                    (m) => m.name,
                    (m) => <Link to={`/mailings/${m.mailing_id}`}>{m.name}</Link>,
                  ),
                  col.text("Its key", (m) => m.key),
                  col.day("Sent", (m) => m.sent_at),
                  col.number("To, as its table says", (m) => m.size),
                  col.number("To, as is known", (m) => m.sent),
                  col.number("Accepted", (m) => m.accepted),
                  col.text("Opens", (m) => (m.opens_unknown ? "as reported only" : "judged")),
                ]}
              />
            )}
          </>
        )}
      </Loaded>
      {(brought.data?.length ?? 0) > 0 && (
        <>
          <h2>Files</h2>
          <DataTable
            name="Files of another system"
            rows={brought.data ?? []}
            id={(f) => f.id}
            columns={(col) => [
              col.shown(
                "File",
                (f) => f.file_name,
                (f) => <Link to={`/mailings/elsewhere/${f.id}`}>{f.file_name}</Link>,
              ),
              col.text("Holds", (f) => f.mapping.of),
              col.when("Brought", (f) => f.made_at),
              col.text("State", (f) => STATE[f.state] ?? f.state),
              col.number("Rows", (f) => f.records),
              col.number("New", (f) => f.new),
              col.number("Refused", (f) => f.refused),
            ]}
          />
        </>
      )}
      <p className="soft">{brought.data?.length === 200 && `The newest ${count(200)} files are shown.`}</p>
    </Frame>
  );
}

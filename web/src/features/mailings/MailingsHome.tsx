import { Button } from "@mui/material";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { Frame } from "../../app/Frame";
import { ByLabel, useByLabel } from "../../shared/ByLabel";
import { instant, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { useMailingSlips } from "./useMailingSlips";

export function MailingsHome() {
  const { slips, mailings } = useMailingSlips();
  const navigate = useNavigate();
  const [archived, setArchived] = useState(false);
  const { label, labels, carries } = useByLabel();
  return (
    <Frame slips={slips}>
      <Loaded query={mailings}>
        {(all) => {
          const shown = all.filter((m) => carries(m.id) && !m.template && m.archived === archived);
          const coming = shown.filter((m) => archived || m.state !== "sent");
          const sent = label === null || archived ? [] : shown.filter((m) => m.state === "sent");
          return (
            <>
              <div className="crumb">
                <span>Mailings</span>
              </div>
              <h1>{archived ? "Put away" : "Drafts, planned, going out"}</h1>
              <p className="finding">
                {archived ? (
                  <>
                    <em>{plural(coming.length, "mailing")}</em> {coming.length === 1 ? "is" : "are"} in the archive.
                  </>
                ) : coming.length ? (
                  <>
                    <em>{plural(coming.length, "mailing")}</em> {coming.length === 1 ? "is" : "are"} not out yet, or not
                    whole.
                  </>
                ) : (
                  "No mailing is in work."
                )}
              </p>
              <ByLabel labels={labels} label={label} />
              {[...coming, ...sent].map((m) => (
                <p key={m.id} style={{ borderTop: "1px solid var(--rule)", margin: 0, padding: "8px 0" }}>
                  <Link to={`/mailings/${m.id}`}>{m.name}</Link>{" "}
                  <span className="soft">
                    {m.channel === "text" ? "text message " : ""}
                    {m.series_id != null
                      ? m.state === "draft"
                        ? "a step of a series, draft"
                        : "sent by a series"
                      : m.outside
                        ? "sent elsewhere"
                        : `to ${m.list ?? "everyone"}, ${m.state}`}
                    {m.paused ? ", paused" : ""}
                    {m.planned_at ? `, ${instant(m.planned_at)}` : m.started_at ? `, ${instant(m.started_at)}` : ""}
                    {m.labels.length > 0 && ` · ${m.labels.join(", ")}`}
                  </span>
                </p>
              ))}
              <div className="acts">
                <Button variant="contained" onClick={() => void navigate("/mailings/new")}>
                  Write a mailing
                </Button>
                <Button variant="outlined" onClick={() => void navigate("/mailings/new?by=text")}>
                  Write a text message
                </Button>
                <Link to="/mailings/compare">Hold two messages side by side</Link>
                <button className="plain" onClick={() => setArchived(!archived)}>
                  {archived ? "Out of the archive" : "The archive"}
                </button>
              </div>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}

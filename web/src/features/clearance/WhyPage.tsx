import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { instant } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Loaded } from "../../shared/states";
import { DecisionTable, tone } from "./Decisions";
import { useClearanceSlips } from "./useClearanceSlips";
import { MomentPick } from "../../shared/Moment";

/** "May this person get the mailing at this instant?", with every rule's answer. */
export function WhyPage() {
  const params = useParams();
  const [id, contact] = [Number(params.id), Number(params.contact)];
  const [search, setSearch] = useSearchParams();
  const at = search.get("at");
  const { slips } = useClearanceSlips();
  const why = useQuery({
    queryKey: ["why", id, contact, at],
    queryFn: () =>
      ok(
        api.GET("/api/mailings/{id}/clearance/{contact}", {
          params: { path: { id, contact }, query: { at: at ? Number(at) : null } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  return (
    <Frame slips={slips}>
      <Loaded query={why}>
        {({ address, mailing, explained: e, decisions }) => (
          <>
            <div className="crumb">
              <Link to={`/clearance/${id}`}>{mailing}</Link>
              <span>rules version {e.rules_version}</span>
              <span>asked for {instant(e.at)} UTC</span>
            </div>
            <h1>
              <Link to={`/contacts/${contact}`}>{address}</Link>
            </h1>
            <p className="finding">
              {e.outcome === "cleared" && (
                <>
                  They <em>may get it</em>.
                </>
              )}
              {e.outcome === "held" && (
                <>
                  They are <em className="wait">held</em> until {instant(e.until)}.
                </>
              )}
              {e.outcome === "barred" && (
                <>
                  They <em className="bad">don't get it</em>.
                </>
              )}
              {e.detail && <> By {e.detail}.</>}
            </p>
            <p className="filters">
              At{" "}
              <MomentPick
                inline
                label="At this instant (UTC)"
                value={e.at}
                onChange={(t) => t !== null && setSearch({ at: String(t) }, { replace: true })}
              />{" "}
              UTC
            </p>
            <DataTable
              name="Rules"
              plain
              rows={e.answers}
              id={(a) => a.reason}
              columns={(col) => [
                col.text("Rule, in the order in which they count", (a) => a.words, { tone: (a) => tone(a.says) }),
                col.text("What it saw", (a) => a.saw),
                col.text("Says", (a) => (a.says === "cleared" ? "nothing against it" : a.says), {
                  tone: (a) => tone(a.says),
                }),
              ]}
            />
            {e.remarks.map((r) => (
              <p key={r} className="soft small">
                {r}
              </p>
            ))}
            {decisions.length > 0 && (
              <>
                <h2>What was decided</h2>
                <DecisionTable decisions={decisions} contact={contact} />
              </>
            )}
          </>
        )}
      </Loaded>
    </Frame>
  );
}

import { Button } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, instant } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { useWorking } from "../../shared/working";
import { useClearanceSlips } from "./useClearanceSlips";

type Sluice = Schemas["SluiceView"];
type Step = Schemas["StepView"];

/** The people of a step, in the working drawer. */
function StepPeople({ mailing, step, of }: { mailing: number; step: string; of?: Step }) {
  const people = useQuery({
    queryKey: ["sluice-step", mailing, step],
    queryFn: () => ok(api.GET("/api/mailings/{id}/sluice/{step}", { params: { path: { id: mailing, step } } })),
  });
  return (
    <Loaded query={people}>
      {(p) => (
        <>
          {of && (
            <p>
              Without this rule {count(of.without_it)} more would be cleared now; other rules catch the rest as well.
            </p>
          )}
          {of && of.parts.length > 0 && (
            <ul style={{ paddingLeft: 18 }}>
              {of.parts.map((p) => (
                <li key={p.words}>
                  {p.words}: {count(p.people)}, without it +{count(p.without_it)}
                </li>
              ))}
            </ul>
          )}
          <ul className="people" tabIndex={0} aria-label="People">
            {p.first.map((r) => (
              <li key={r.id}>
                <Link to={`/contacts/${r.id}`}>{r.address}</Link>{" "}
                <Link to={`/clearance/${mailing}/person/${r.id}`} className="small" aria-label={`Why ${r.address}`}>
                  why
                </Link>
              </li>
            ))}
          </ul>
          {p.people > p.first.length && (
            <p className="soft">
              The first {count(p.first.length)} of {count(p.people)}.
            </p>
          )}
          <Button variant="outlined" href={`/api/mailings/${mailing}/sluice/${step}/people.csv`}>
            {count(p.people)} as CSV
          </Button>
        </>
      )}
    </Loaded>
  );
}

function Picture({ s, open }: { s: Sluice; open: (step: string, title: string, of?: Step) => void }) {
  const scale = 330 / Math.max(1, s.selected);
  const rows = s.steps.map((step, i) => ({
    ...step,
    after: s.selected - s.steps.slice(0, i + 1).reduce((sum, earlier) => sum + earlier.people, 0),
  }));
  const row = (label: string, key: string, y: number, people: number, bold: boolean) => (
    <g key={key}>
      <text x={0} y={y + 13} fontSize={14} fontWeight={bold ? 600 : 400}>
        {label}
      </text>
      <rect x={232} y={y} width={people * scale} height={17} fill="var(--deep)" />
      <text x={654} y={y + 13} fontSize={14} textAnchor="end" fontWeight={600}>
        {count(people)}
      </text>
    </g>
  );
  const height = 62 + rows.length * 25;
  return (
    <svg
      viewBox={`0 0 740 ${height}`}
      width={740}
      style={{ display: "block", maxWidth: "100%" }}
      role="group"
      aria-label="Sluice"
    >
      <text x={654} y={9} fontSize={12.5} textAnchor="end" className="soft">
        people
      </text>
      <text x={738} y={9} fontSize={12.5} textAnchor="end" className="soft">
        without it
      </text>
      {row("Selected", "selected", 16, s.selected, true)}
      {rows.map((r, i) => {
        const y = 43 + i * 25;
        const tone = r.holds ? "var(--ochre)" : "var(--brick)";
        return (
          <g
            key={r.reason}
            role="button"
            tabIndex={0}
            style={{ cursor: "pointer" }}
            data-step={r.reason}
            onClick={() => open(r.reason, r.words, r)}
            onKeyDown={(e) => (e.key === "Enter" || e.key === " ") && open(r.reason, r.words, r)}
          >
            <rect x={0} y={y - 4} width={740} height={24} fill="transparent" />
            <text x={0} y={y + 12} fontSize={14} style={{ fill: r.holds ? "var(--ochre)" : undefined }}>
              {r.words}
            </text>
            <rect x={232} y={y} width={Math.max(0, r.after * scale)} height={15} fill="var(--deep-wash)" />
            <rect x={232 + r.after * scale} y={y} width={Math.max(2, r.people * scale)} height={15} fill={tone} />
            <text
              x={654}
              y={y + 12}
              fontSize={14}
              textAnchor="end"
              style={{ fill: r.holds ? "var(--ochre)" : undefined }}
            >
              {r.holds ? `${count(r.people)} later` : `−${count(r.people)}`}
            </text>
            <text x={738} y={y + 12} fontSize={13} textAnchor="end" className="soft">
              +{count(r.without_it)}
            </text>
          </g>
        );
      })}
      {row("Cleared", "cleared", 43 + rows.length * 25, s.cleared, true)}
    </svg>
  );
}

/** Which caps hold, and which are only written down. */
function CapsInWords({ caps }: { caps: Sluice["caps"] }) {
  const say = (on: boolean) =>
    caps
      .filter((c) => c.in_force === on)
      .map((c) => `${c.words} (${c.scope})`)
      .join(", ");
  if (caps.length === 0) return <span className="bad">There is no cap.</span>;
  return (
    <>
      {say(true) && <>Caps in force: {say(true)}. </>}
      {say(false) && <span className="bad">Not in force, holding nobody: {say(false)}.</span>}
    </>
  );
}

/** Selected people, what each rule takes off, who is left. */
export function SluicePage() {
  const id = Number(useParams().id);
  const { slips } = useClearanceSlips();
  const { show } = useWorking();
  const sluice = useQuery({
    queryKey: ["sluice", id],
    queryFn: () => ok(api.GET("/api/mailings/{id}/sluice", { params: { path: { id } } })),
  });
  const open = (step: string, title: string, of?: Step) =>
    show({ title, body: <StepPeople key={step} mailing={id} step={step} of={of} /> });
  return (
    <Frame slips={slips}>
      <Loaded query={sluice}>
        {(s) => (
          <>
            <div className="crumb">
              <span>Sluice</span>
              <span>
                rules version {s.rules_version}
                {s.rules_at > 0 ? ` of ${instant(s.rules_at)}` : ""}
              </span>
              <span>for {instant(s.at)} UTC</span>
            </div>
            <h1>{s.mailing}</h1>
            <p className="finding">
              <em>{count(s.cleared)}</em> of {count(s.selected)} people{" "}
              {s.state === "sending" ? "would still get it now" : "get it"}
              {s.held > 0 && s.last_release ? `; ${count(s.held)} more get it by ${instant(s.last_release)}` : ""}.
            </p>
            <p className="filters">
              Included: <b>{[s.list, s.segment].filter(Boolean).join(", only ") || "everyone"}</b>.{" "}
              {s.exceeds ? (
                <span className="bad">An approver lets it exceed the caps.</span>
              ) : (
                <CapsInWords caps={s.caps} />
              )}
            </p>
            <Picture s={s} open={open} />
            <div className="acts">
              <Button variant="outlined" onClick={() => open("cleared", "Cleared")}>
                Open the {count(s.cleared)} cleared
              </Button>
              <Link to={`/mailings/${id}`}>The mailing</Link>
            </div>
          </>
        )}
      </Loaded>
    </Frame>
  );
}

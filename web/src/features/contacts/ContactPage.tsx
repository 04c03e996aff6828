import { Button } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { DecisionTable } from "../clearance/Decisions";
import { count, date, instant, percent, words } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { EditPerson } from "./EditPerson";
import { OwnScores } from "./OwnScores";
import { SeriesOfPerson } from "../series/SeriesOfPerson";
import { PersonActs } from "./PersonActs";
import { Phone } from "./PhoneEdit";
import { statusTone } from "./PeopleTable";
import { useContactSlips } from "./useContactSlips";
import { useVocabulary } from "../../shared/useVocabulary";
import { Timeline } from "./Timeline";

type Person = Schemas["Contact"];

/** A person: profile, fields, what they belong to, and one timeline of all that happened. */
export function ContactPage() {
  const id = Number(useParams().id);
  const slips = useContactSlips();
  const person = useQuery({
    queryKey: ["contact", id],
    queryFn: () => ok(api.GET("/api/contacts/{id}", { params: { path: { id } } })),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={person}>{(p) => <Whole key={id} p={p} />}</Loaded>
    </Frame>
  );
}

function Whole({ p }: { p: Person }) {
  const [editing, setEditing] = useState(false);
  return (
    <>
      <div className="crumb">
        <Link to="/contacts">Contacts</Link>
        <span>added {instant(p.added_at)}</span>
      </div>
      {p.gone && (
        <p className="note" role="status">
          Nobody is here any more: {p.gone}.{" "}
          {p.merged_into != null && <Link to={`/contacts/${p.merged_into}`}>See who they are now</Link>}
        </p>
      )}
      <h1>{[p.given_name, p.family_name].filter(Boolean).join(" ") || p.address || "Nobody"}</h1>
      <p className="finding">
        Consent: <em>{words(p.consent)}</em>. Mail status: <em className={statusTone(p.status)}>{words(p.status)}</em>
        {p.status === "resting" && p.status_until ? ` until ${instant(p.status_until)}` : ""}.
      </p>
      <p className="soft" style={{ maxWidth: "48em" }}>
        {p.status_why}
      </p>
      {editing ? (
        <EditPerson p={p} close={() => setEditing(false)} />
      ) : (
        <>
          <dl className="facts">
            <dt>Address</dt>
            <dd>
              {p.address || "–"}
              {p.once.length > 0 && <span className="soft small"> also {p.once.join(", ")}</span>}
            </dd>
            <Phone p={p} />
            <dt>Country, region, zone</dt>
            <dd>{[p.country, p.region, p.zone].filter(Boolean).join(", ") || "–"}</dd>
            <dt>Home place</dt>
            <dd>{p.position ? p.position.map((x) => Number(x).toFixed(3)).join(", ") : "–"}</dd>
            <dt>Source</dt>
            <dd>{p.source ?? "–"}</dd>
            {p.fields.map((f) => [
              <dt key={f.field_id}>{f.name}</dt>,
              <dd key={f.name}>
                {f.value}
                {f.dated && (
                  <span className="soft small">
                    {" "}
                    of {f.dated}
                    {f.source ? `, ${f.source}` : ""}
                  </span>
                )}
              </dd>,
            ])}
            <Belongs p={p} word="list" label="Lists" on={p.lists} />
            <Belongs p={p} word="tag" label="Tags" on={p.tags} />
            <dt>Topics left</dt>
            <dd>{p.topics_left.join(", ") || "none"}</dd>
            {p.others
              .filter((e) => e.channel === "email")
              .map((e) => [<dt key={e.entity}>Consent to {e.entity}</dt>, <dd key={`${e.entity} is`}>{e.state}</dd>])}
            {p.sunset_at && (
              <>
                <dt>Sunset</dt>
                <dd>since {date(p.sunset_at)}: no marketing, for silence, until they answer or sign up</dd>
              </>
            )}
            {p.load && (
              <>
                <dt>Mail load</dt>
                <dd>
                  {p.load.words}
                  <span className="soft small">
                    {" "}
                    {p.load.delivered === 0
                      ? "nothing was delivered yet"
                      : `${p.load.per_28_days.toFixed(1)} messages in 28 days, ${percent(p.load.rate)} answered (weighted ${p.load.answered.toFixed(1)} of ${p.load.delivered.toFixed(1)}, shrunk to the base${p.load.open_blind ? "; their opens can’t be seen" : ""})`}
                  </span>
                </dd>
              </>
            )}
          </dl>
          <div className="acts">
            {!p.gone && (
              <Button variant="outlined" onClick={() => setEditing(true)}>
                Change the profile
              </Button>
            )}
            <Button variant="outlined" href={`/api/contacts/${p.id}/record.json`}>
              Whole record as JSON
            </Button>
            {!p.gone && <PersonActs p={p} />}
          </div>
        </>
      )}
      {p.scores.length > 0 && <Scores p={p} />}
      <OwnScores id={p.id} />
      <SeriesOfPerson contact={p.id} />
      <Decided id={p.id} />
      <Timeline p={p} />
    </>
  );
}

/** The last decisions of clearance about them. */
function Decided({ id }: { id: number }) {
  const decisions = useQuery({
    queryKey: ["decisions", id],
    queryFn: () => ok(api.GET("/api/contacts/{id}/decisions", { params: { path: { id } } })),
  });
  const [all, setAll] = useState(false);
  if (!decisions.data?.length) return null;
  const shown = all ? decisions.data : decisions.data.slice(0, 5);
  return (
    <>
      <h2>What they got or didn't, and why</h2>
      <DecisionTable decisions={shown} contact={id} />
      {shown.length < decisions.data.length && (
        <p>
          <button className="plain" onClick={() => setAll(true)}>
            All {count(decisions.data.length)}
          </button>
        </p>
      )}
    </>
  );
}

/** Every value that scores from elsewhere had, the newest first. */
function Scores({ p }: { p: Person }) {
  return (
    <>
      <h2>Scores from elsewhere</h2>
      <DataTable
        name="Scores from elsewhere"
        param="scores_by"
        rows={p.scores}
        id={(_, i) => i}
        columns={(col) => [
          col.text("Day", (s) => s.dated),
          col.text("Score", (s) => s.name),
          col.number("Value", (s) => s.number, { cell: (s) => s.number }),
          col.text("Source", (s) => s.source),
        ]}
      />
    </>
  );
}

/** What a person is on, with a way on and off. */
function Belongs({ p, word, label, on }: { p: Person; word: "list" | "tag"; label: string; on: Schemas["Tied"][] }) {
  const vocabulary = useVocabulary().data;
  const change = useMutation({
    mutationFn: ({ id, put }: { id: number; put: boolean }) =>
      ok(api.POST("/api/words/{id}/people", { params: { path: { id } }, body: { word, contacts: [p.id], on: put } })),
  });
  const others = (word === "list" ? vocabulary?.lists : vocabulary?.tags)?.filter(
    (o) => !on.some((x) => x.id === o.id),
  );
  return (
    <>
      <dt>{label}</dt>
      <dd>
        {on.map((x) => (
          <span key={x.id} style={{ marginRight: 10 }}>
            {x.name}{" "}
            <button className="plain small" onClick={() => change.mutate({ id: x.id, put: false })}>
              take off<span className="away"> {x.name}</span>
            </button>
          </span>
        ))}
        {others && others.length > 0 && (
          <select
            className="bare"
            aria-label={`Put on a ${word}`}
            value=""
            onChange={(e) => change.mutate({ id: Number(e.target.value), put: true })}
          >
            <option value="">put on …</option>
            {others.map((o) => (
              <option key={o.id} value={o.id}>
                {o.name}
              </option>
            ))}
          </select>
        )}
        <Failure error={change.error} />
      </dd>
    </>
  );
}

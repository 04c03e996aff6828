import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { LinkOf, Pick } from "../../shared/Pick";
import { NumberBox } from "../../shared/NumberBox";
import { Failure } from "../../shared/states";
import { useVocabulary } from "../../shared/useVocabulary";
import { TriedView } from "./TriedView";

export type Rule = Schemas["Reaction"];
type Trigger = Rule["when"];
type Deed = Rule["then"][number];

const TRIGGERS: [Trigger["kind"], string][] = [
  ["opened", "opens it"],
  ["not_opened", "hasn’t opened it in time"],
  ["clicked", "clicks a link"],
  ["not_clicked", "hasn’t clicked in time"],
  ["replied", "replies"],
  ["left", "leaves or complains"],
  ["bounced", "can’t be reached for good"],
  ["answered", "does something elsewhere"],
  ["bought", "buys"],
];
const DEEDS: [Deed["kind"], string][] = [
  ["score", "points on the score"],
  ["tag", "the tag"],
  ["list", "the list"],
  ["field", "set the field"],
  ["webhook", "tell the system"],
  ["task", "ask a person to"],
];

function begin(kind: Trigger["kind"], events: string[]): Trigger {
  switch (kind) {
    case "not_opened":
      return { kind, hours: 72, taken_back: false };
    case "clicked":
      return { kind, link: null };
    case "not_clicked":
      return { kind, hours: 72, link: null, taken_back: false };
    case "answered":
      return { kind, name: events[0] ?? "" };
    case "bought":
      return { kind, product: null, category: null };
    default:
      return { kind };
  }
}

/** A tag or a list, and whether it is put on or taken off. */
function PutOn({
  words: [on, off],
  label,
  put,
  id,
  all = [],
  onChange,
}: {
  words: [string, string];
  label: string;
  put: boolean;
  id: number;
  all: { id: number; name: string }[] | undefined;
  onChange: (put: boolean, id: number) => void;
}) {
  return (
    <>
      <Pick
        label={`${label}: put or take off`}
        value={put ? "put" : "off"}
        options={[
          ["put", on],
          ["off", off],
        ]}
        onChange={(p) => onChange(p === "put", id)}
      />{" "}
      <Pick label={label} value={id} options={all.map((x) => [x.id, x.name])} onChange={(x) => onChange(put, x)} />
    </>
  );
}

/** A reaction, written as a sentence; a rule that gives points can be tried before it is switched on. */
export function ReactionForm({
  mailing,
  from,
  done,
}: {
  mailing: number | null;
  from?: Schemas["KeptReaction"];
  done: () => void;
}) {
  const client = useQueryClient();
  const v = useVocabulary().data;
  const webhooks = useQuery({ queryKey: ["webhooks"], queryFn: () => ok(api.GET("/api/webhooks")) });
  const scores = useQuery({ queryKey: ["scores"], queryFn: () => ok(api.GET("/api/scores")) });
  const [rule, setRule] = useState<Rule>(from?.rule ?? { mailing, when: { kind: "opened" }, then: [] });
  const when = rule.when;
  const setWhen = (w: Trigger) => setRule({ ...rule, when: w });
  const setDeed = (i: number, d: Deed | null) =>
    setRule({ ...rule, then: rule.then.flatMap((x, k) => (k === i ? (d ? [d] : []) : [x])) });
  const named = { scores: scores.data ?? [], systems: (webhooks.data ?? []).filter((w) => !w.ended_at) };
  const fresh = (kind: Deed["kind"]): Deed | null => {
    switch (kind) {
      case "score":
        return named.scores[0] ? { kind, score: named.scores[0].id, points: 5 } : null;
      case "tag":
        return v?.tags[0] ? { kind, tag: v.tags[0].id, put: true } : null;
      case "list":
        return v?.lists[0] ? { kind, list: v.lists[0].id, put: true } : null;
      case "field":
        return v?.fields[0] ? { kind, field: v.fields[0].id, value: "" } : null;
      case "webhook":
        return named.systems[0] ? { kind, webhook: named.systems[0].id } : null;
      case "task":
        return { kind, words: "" };
    }
  };
  const save = useMutation({
    mutationFn: (on: boolean) => ok(api.POST("/api/reactions", { body: { id: from?.id ?? null, rule, on } })),
    onSuccess: async () => {
      await client.invalidateQueries();
      done();
    },
  });
  const points = rule.then.find((d) => d.kind === "score");
  const attempt = useMutation({
    mutationFn: () =>
      ok(
        api.POST("/api/scores/{id}/try", {
          params: { path: { id: (points as Extract<Deed, { kind: "score" }>).score } },
          body: { draft: from ? null : rule },
        }),
      ),
  });
  const hours = (n: number, change: (n: number) => void) => (
    <>
      {" after "}
      <NumberBox label="Hours" min={1} max={720} value={n} onChange={(k) => change(Math.round(k))} /> hours
    </>
  );
  const later = (on: boolean, change: (on: boolean) => void) => (
    <label style={{ marginLeft: 10 }}>
      <input type="checkbox" checked={on} onChange={(e) => change(e.target.checked)} /> take it back when it comes later
    </label>
  );
  const linkPick = (link: number | null | undefined, change: (l: number | null) => void) =>
    rule.mailing == null ? "any link" : <LinkOf mailing={rule.mailing} value={link ?? null} onChange={change} />;
  const known = v && scores.data && webhooks.data;
  const missing = !known ? [] : DEEDS.filter(([kind]) => fresh(kind) === null).map(([kind]) => kind);
  return (
    <section
      className="group"
      style={{ margin: "12px 0", maxWidth: 900 }}
      aria-label={from ? "Change the reaction" : "New reaction"}
    >
      <p style={{ marginTop: 0 }}>
        When somebody{" "}
        <Pick
          label="What happens"
          value={when.kind}
          options={TRIGGERS}
          onChange={(kind) => setWhen(begin(kind, v?.events ?? []))}
        />{" "}
        {when.kind === "clicked" && linkPick(when.link, (link) => setWhen({ ...when, link }))}
        {when.kind === "not_clicked" && linkPick(when.link, (link) => setWhen({ ...when, link }))}
        {(when.kind === "not_opened" || when.kind === "not_clicked") && (
          <>
            {hours(when.hours, (n) => setWhen({ ...when, hours: n }))}
            {later(when.taken_back, (taken_back) => setWhen({ ...when, taken_back }))}
          </>
        )}
        {when.kind === "answered" && (
          <Pick
            label="Event"
            value={when.name}
            options={(v?.events ?? []).map((e): [string, string] => [e, `“${e}”`])}
            onChange={(name) => setWhen({ ...when, name })}
          />
        )}
        {when.kind === "bought" && (
          <Pick
            label="Product"
            value={when.product ?? (when.category != null ? `c:${when.category}` : "")}
            options={[
              ["", "anything"],
              ...(v?.products ?? []).map((p): [string, string] => [p, p]),
              ...(v?.categories ?? []).map((c): [string, string] => [`c:${c}`, `anything of ${c}`]),
            ]}
            onChange={(p) =>
              setWhen({
                kind: "bought",
                product: p && !p.startsWith("c:") ? p : null,
                category: p.startsWith("c:") ? p.slice(2) : null,
              })
            }
          />
        )}
        {rule.mailing == null ? " (any mailing)" : " (this mailing)"}
      </p>
      {rule.then.map((d, i) => (
        <p key={i} style={{ margin: "4px 0 4px 24px" }}>
          {d.kind === "score" && (
            <>
              <NumberBox label="Points" value={d.points} onChange={(points) => setDeed(i, { ...d, points })} /> points
              on{" "}
              <Pick
                label="Score"
                value={d.score}
                options={named.scores.map((s): [number, string] => [s.id, s.name])}
                onChange={(score) => setDeed(i, { ...d, score })}
              />
            </>
          )}
          {d.kind === "tag" && (
            <PutOn
              words={["put the tag", "take off the tag"]}
              label="Tag"
              put={d.put}
              id={d.tag}
              all={v?.tags}
              onChange={(put, tag) => setDeed(i, { ...d, put, tag })}
            />
          )}
          {d.kind === "list" && (
            <PutOn
              words={["put on the list", "take off the list"]}
              label="List"
              put={d.put}
              id={d.list}
              all={v?.lists}
              onChange={(put, list) => setDeed(i, { ...d, put, list })}
            />
          )}
          {d.kind === "field" && (
            <>
              set{" "}
              <Pick
                label="Field"
                value={d.field}
                options={(v?.fields ?? []).map((f): [number, string] => [f.id, f.name])}
                onChange={(field) => setDeed(i, { ...d, field })}
              />{" "}
              to{" "}
              <input
                className="bare"
                aria-label="Value"
                value={d.value}
                onChange={(e) => setDeed(i, { ...d, value: e.target.value })}
              />
            </>
          )}
          {d.kind === "webhook" && (
            <>
              tell{" "}
              <Pick
                label="System"
                value={d.webhook}
                options={named.systems.map((w): [number, string] => [w.id, w.name])}
                onChange={(webhook) => setDeed(i, { ...d, webhook })}
              />
            </>
          )}
          {d.kind === "task" && (
            <>
              ask a person:{" "}
              <input
                className="bare"
                aria-label="What to do"
                style={{ width: 340 }}
                value={d.words}
                onChange={(e) => setDeed(i, { ...d, words: e.target.value })}
              />
            </>
          )}{" "}
          <button className="plain" onClick={() => setDeed(i, null)}>
            Take out<span className="away"> what follows, line {i + 1}</span>
          </button>
        </p>
      ))}
      <p style={{ margin: "4px 0 8px 24px" }}>
        <select
          className="bare"
          aria-label="Add what follows"
          value=""
          onChange={(e) => {
            const deed = fresh(e.target.value as Deed["kind"]);
            if (deed) setRule({ ...rule, then: [...rule.then, deed] });
          }}
        >
          <option value="">{rule.then.length ? "and …" : "then …"}</option>
          {DEEDS.filter(([kind]) => !missing.includes(kind)).map(([kind, words]) => (
            <option key={kind} value={kind}>
              {words}
            </option>
          ))}
        </select>
        {missing.length > 0 && (
          <span className="soft small">
            {" "}
            Nothing to choose yet for{" "}
            {DEEDS.filter(([k]) => missing.includes(k))
              .map(([, w]) => w)
              .join(", ")}
            .
          </span>
        )}
      </p>
      <Failure error={save.error ?? attempt.error} />
      {attempt.data && <TriedView tried={attempt.data} />}
      <div className="acts">
        <Button
          variant="contained"
          disabled={save.isPending || rule.then.length === 0}
          onClick={() => save.mutate(true)}
        >
          Switch it on
        </Button>
        <Button
          variant="outlined"
          disabled={save.isPending || rule.then.length === 0}
          onClick={() => save.mutate(false)}
        >
          Keep it off
        </Button>
        {points && (
          <Button variant="outlined" disabled={attempt.isPending} onClick={() => attempt.mutate()}>
            Try it on the past year
          </Button>
        )}
        <button className="plain" onClick={done}>
          Never mind
        </button>
      </div>
    </section>
  );
}

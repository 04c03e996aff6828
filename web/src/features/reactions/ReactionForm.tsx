import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
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
  const links = useQuery({
    queryKey: ["links", rule.mailing],
    queryFn: () => ok(api.GET("/api/mailings/{id}/links", { params: { path: { id: rule.mailing! } } })),
    enabled: rule.mailing != null,
  });
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
  const pick = <T extends string | number>(label: string, value: T, options: [T, string][], change: (t: T) => void) => (
    <select
      className="bare"
      aria-label={label}
      value={value}
      onChange={(e) => change(options.find(([o]) => String(o) === e.target.value)![0])}
    >
      {options.map(([o, words]) => (
        <option key={o} value={o}>
          {words}
        </option>
      ))}
    </select>
  );
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
    pick(
      "Link",
      link ?? -1,
      [[-1, "any link"], ...(links.data ?? []).map((l): [number, string] => [l.position, `the link “${l.name}”`])],
      (l) => change(l < 0 ? null : l),
    );
  const known = v && scores.data && webhooks.data;
  const missing = !known ? [] : DEEDS.filter(([kind]) => fresh(kind) === null).map(([kind]) => kind);
  return (
    <section
      className="group"
      style={{ margin: "12px 0", maxWidth: 900 }}
      aria-label={from ? "Change the reaction" : "New reaction"}
    >
      <p style={{ marginTop: 0 }}>
        When somebody {pick("What happens", when.kind, TRIGGERS, (kind) => setWhen(begin(kind, v?.events ?? [])))}{" "}
        {when.kind === "clicked" && linkPick(when.link, (link) => setWhen({ ...when, link }))}
        {when.kind === "not_clicked" && linkPick(when.link, (link) => setWhen({ ...when, link }))}
        {(when.kind === "not_opened" || when.kind === "not_clicked") && (
          <>
            {hours(when.hours, (n) => setWhen({ ...when, hours: n }))}
            {later(when.taken_back, (taken_back) => setWhen({ ...when, taken_back }))}
          </>
        )}
        {when.kind === "answered" &&
          pick(
            "Event",
            when.name,
            (v?.events ?? []).map((e): [string, string] => [e, `“${e}”`]),
            (name) => setWhen({ ...when, name }),
          )}
        {when.kind === "bought" &&
          pick(
            "Product",
            when.product ?? (when.category != null ? `c:${when.category}` : ""),
            [
              ["", "anything"],
              ...(v?.products ?? []).map((p): [string, string] => [p, p]),
              ...(v?.categories ?? []).map((c): [string, string] => [`c:${c}`, `anything of ${c}`]),
            ],
            (p) =>
              setWhen({
                kind: "bought",
                product: p && !p.startsWith("c:") ? p : null,
                category: p.startsWith("c:") ? p.slice(2) : null,
              }),
          )}
        {rule.mailing == null ? " (any mailing)" : " (this mailing)"}
      </p>
      {rule.then.map((d, i) => (
        <p key={i} style={{ margin: "4px 0 4px 24px" }}>
          {d.kind === "score" && (
            <>
              <NumberBox label="Points" value={d.points} onChange={(points) => setDeed(i, { ...d, points })} /> points
              on{" "}
              {pick(
                "Score",
                d.score,
                named.scores.map((s): [number, string] => [s.id, s.name]),
                (score) => setDeed(i, { ...d, score }),
              )}
            </>
          )}
          {d.kind === "tag" && (
            <>
              {pick(
                "Put or take off",
                d.put ? "put" : "off",
                [
                  ["put", "put the tag"],
                  ["off", "take off the tag"],
                ],
                (p) => setDeed(i, { ...d, put: p === "put" }),
              )}{" "}
              {pick(
                "Tag",
                d.tag,
                (v?.tags ?? []).map((t): [number, string] => [t.id, t.name]),
                (tag) => setDeed(i, { ...d, tag }),
              )}
            </>
          )}
          {d.kind === "list" && (
            <>
              {pick(
                "Put on or take off",
                d.put ? "put" : "off",
                [
                  ["put", "put on the list"],
                  ["off", "take off the list"],
                ],
                (p) => setDeed(i, { ...d, put: p === "put" }),
              )}{" "}
              {pick(
                "List",
                d.list,
                (v?.lists ?? []).map((t): [number, string] => [t.id, t.name]),
                (list) => setDeed(i, { ...d, list }),
              )}
            </>
          )}
          {d.kind === "field" && (
            <>
              set{" "}
              {pick(
                "Field",
                d.field,
                (v?.fields ?? []).map((f): [number, string] => [f.id, f.name]),
                (field) => setDeed(i, { ...d, field }),
              )}{" "}
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
              {pick(
                "System",
                d.webhook,
                named.systems.map((w): [number, string] => [w.id, w.name]),
                (webhook) => setDeed(i, { ...d, webhook }),
              )}
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

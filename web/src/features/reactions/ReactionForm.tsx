import { Button } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { LinkOf, Pick } from "../../shared/Pick";
import { ProductPick } from "../../shared/ProductPick";
import { NumberBox } from "../../shared/NumberBox";
import { Failure } from "../../shared/states";
import { useVocabulary } from "../../shared/useVocabulary";
import { AddDeed, DeedLine, useDeedKnown, type Deed } from "./Deeds";
import { TriedView } from "./TriedView";

export type Rule = Schemas["Reaction"];
type Trigger = Rule["when"];

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

/** What can be known of a text message. */
const OF_TEXTS: Trigger["kind"][] = ["replied", "left", "answered", "bought"];

/** A reaction, written as a sentence; a rule that gives points can be tried before it is switched on. */
export function ReactionForm({
  mailing,
  byText = false,
  from,
  done,
}: {
  mailing: number | null;
  /** The mailing is a text message. */
  byText?: boolean;
  from?: Schemas["KeptReaction"];
  done: () => void;
}) {
  const v = useVocabulary().data;
  const known = useDeedKnown();
  const [rule, setRule] = useState<Rule>(
    from?.rule ?? { mailing, when: { kind: byText ? "replied" : "opened" }, then: [] },
  );
  const when = rule.when;
  const setWhen = (w: Trigger) => setRule({ ...rule, when: w });
  const setDeed = (i: number, d: Deed | null) =>
    setRule({ ...rule, then: rule.then.flatMap((x, k) => (k === i ? (d ? [d] : []) : [x])) });
  const save = useMutation({
    mutationFn: (on: boolean) => ok(api.POST("/api/reactions", { body: { id: from?.id ?? null, rule, on } })),
    onSuccess: async () => {
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
          options={byText ? TRIGGERS.filter(([kind]) => OF_TEXTS.includes(kind)) : TRIGGERS}
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
        {when.kind === "bought" && <ProductPick value={when} onChange={(b) => setWhen({ kind: "bought", ...b })} />}
        {rule.mailing == null ? " (any mailing)" : " (this mailing)"}
      </p>
      {rule.then.map((d, i) => (
        <p key={i} style={{ margin: "4px 0 4px 24px" }}>
          <DeedLine deed={d} known={known} onChange={(next) => setDeed(i, next)} />{" "}
          <button className="plain" onClick={() => setDeed(i, null)}>
            Take out<span className="away"> what follows, line {i + 1}</span>
          </button>
        </p>
      ))}
      <p style={{ margin: "4px 0 8px 24px" }}>
        <AddDeed
          label="Add what follows"
          words={rule.then.length ? "and …" : "then …"}
          known={known}
          add={(deed) => setRule({ ...rule, then: [...rule.then, deed] })}
        />
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

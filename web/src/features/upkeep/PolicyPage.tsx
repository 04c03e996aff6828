import { Button, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { count, date, instant } from "../../shared/format";
import { NumberBox } from "../../shared/NumberBox";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { withInterval } from "./run";
import { useUpkeepSlips } from "./useUpkeepSlips";
import { Versions } from "./Versions";

type Page = Schemas["PolicyPage"];
type Policy = Schemas["Policy"];
type NumberKey = {
  [K in keyof Policy]-?: Policy[K] extends number ? K : never;
}[keyof Policy];

type Line = { key: keyof Policy; unit: string; does: string; mailings?: true };

/** The numbers in the order of an address's life, each with what it does here. */
const NUMBERS: Line[] = [
  {
    key: "delivered_after_days",
    unit: "days",
    does: "Accepted mail counts as delivered when no failure came for so long.",
  },
  {
    key: "no_such_address_rest_days",
    unit: "days",
    does: "An address whose host says that there is none rests so long.",
  },
  {
    key: "no_such_address_apart_hours",
    unit: "hours",
    does: "The same answer to another mailing retires it when it comes at least so long after the first.",
  },
  {
    key: "permanent_mailings",
    unit: "mailings",
    does: "So many different mailings must fail for good in another way, with no delivery or answer between …",
    mailings: true,
  },
  { key: "permanent_days", unit: "days", does: "… over at least so long, before an address is retired." },
  { key: "temporary_mailings", unit: "mailings", does: "So many in a row must fail for now …", mailings: true },
  { key: "temporary_days", unit: "days", does: "… over at least so long, before an address rests." },
  {
    key: "observed_mailings",
    unit: "mailings",
    does: "After a rest so many are watched; when all arrive the address is active again.",
    mailings: true,
  },
  { key: "observed_failures", unit: "failures", does: "So many failures among them let it rest again." },
  {
    key: "incident_times",
    unit: "times",
    does: "A domain’s failures on a mailing wait for a person when over so many times its norm …",
  },
  { key: "incident_addresses", unit: "addresses", does: "… and over so many addresses." },
];

const REST: Line = {
  key: "rests_days",
  unit: "days",
  does: "The first rest, the second and so on; an address that fails after the last is retired.",
};
const WHO: Line = {
  key: "retires",
  unit: "",
  does: "Who retires: the rules by themselves, or runs that a person has read. Until then the address rests; rests begin by themselves either way.",
};

type SilenceKey = keyof Schemas["SilencePolicy"];

/** The numbers on silence and on the end of what was retired; an empty one is none. */
const SILENCE: { key: SilenceKey | "delete_after_days"; unit: string; does: string; none?: string }[] = [
  {
    key: "window_days",
    unit: "days",
    does: "Silent: no answer for so long. Empty: as far back as mail pays by the recency guide.",
    none: "the guide",
  },
  {
    key: "asked_days",
    unit: "days",
    does: "Who got the letters that ask has so long to answer, from the last of them.",
  },
  {
    key: "kept_back_percent",
    unit: "%",
    does: "Of those who let it pass so many, drawn by hash, keep getting mail: what they do says what letting go costs …",
  },
  { key: "kept_back_days", unit: "days", does: "… for so long." },
  {
    key: "delete_after_days",
    unit: "days",
    does: "Addresses retired for so long are deleted by the next cleaning run. Empty: never. A deletion can’t be undone.",
    none: "never",
  },
];

const KNOWN: Record<Schemas["Known"], string> = {
  shown: "that is shown by the history",
  not_refuted: "too few were mailed again to show it, and nothing speaks against it",
  refuted: "at every number more than 2% were delivered to later",
};

function Permanence({ history }: { history: NonNullable<Page["history"]> }) {
  return (
    <>
      <h2>After how many permanent failures does nothing come through any more?</h2>
      <p className="soft" style={{ maxWidth: "62em" }}>
        Of addresses whose mailings failed for good so often, over the policy’s days and with nothing delivered between,
        those that were mailed again tell. The number to take is the smallest, 2 or more, at which fewer than 2% by the
        upper limit were delivered to later. Here: <b>{history.suggested.failures}</b> ({KNOWN[history.suggested.known]}
        ).
      </p>
      <DataTable
        name="Delivered to after permanent failures"
        rows={history.permanence}
        id={(l) => l.failures}
        plain
        dense
        columns={(col) => [
          col.number("Failures", (l) => l.failures),
          col.number("Addresses", (l) => l.reached),
          col.number("Mailed again", (l) => l.delivered.of),
          col.number("Delivered to later", (l) => l.delivered.count),
          col.text("Share, with its 95% interval", (l) =>
            l.delivered.of === 0 ? "not known" : withInterval(l.delivered),
          ),
        ]}
      />
      <p className="soft small">As of {instant(history.at)}; looked at once a day.</p>
    </>
  );
}

function Editor({ page }: { page: Page }) {
  const { current, history } = page;
  const [policy, setPolicy] = useState<Policy>(current.policy);
  const [rests, setRests] = useState(current.policy.rests_days.join(", "));
  const [note, setNote] = useState("");
  const go = useNavigate();
  const preview = useMutation({
    mutationFn: (body: Schemas["ProposedPolicy"]) => ok(api.POST("/api/upkeep/policy", { body })),
    onSuccess: (r) => void go(`/upkeep/runs/${r.run}`),
  });
  const suggested = history?.suggested.failures;
  const silent = (of: Policy, key: (typeof SILENCE)[number]["key"]) =>
    key === "delete_after_days" ? of.delete_after_days : of.silence[key];
  const setSilent = (key: (typeof SILENCE)[number]["key"], text: string) => {
    const value = text.trim() === "" ? null : Number(text);
    setPolicy(
      key === "delete_after_days"
        ? { ...policy, delete_after_days: value }
        : { ...policy, silence: { ...policy.silence, [key]: value } },
    );
  };
  const means = (n: number) => page.cadence.map((c) => `${Math.round(n * c.days)} days at ${c.letterhead}`).join(", ");
  const whole = (): Policy => ({
    ...policy,
    rests_days: rests
      .split(/[,;\s]+/)
      .filter(Boolean)
      .map(Number),
  });
  const inForce = (key: keyof Policy) => {
    const now = current.policy;
    if (key === "retires") return now.retires.how === "at_once" ? "the rules" : "runs";
    return key === "rests_days" ? now.rests_days.join(", ") : String(now[key]);
  };
  const field = (n: Line) => {
    if (n.key === "rests_days")
      return (
        <>
          <input
            className="bare"
            style={{ width: 84 }}
            aria-label={n.does}
            value={rests}
            onChange={(e) => setRests(e.target.value)}
          />{" "}
          {n.unit}
        </>
      );
    if (n.key === "retires")
      return (
        <select
          className="bare"
          aria-label={n.does}
          value={policy.retires.how}
          onChange={(e) =>
            setPolicy({
              ...policy,
              retires: e.target.value === "at_once" ? { how: "at_once" } : { how: "in_runs", since: 0 },
            })
          }
        >
          <option value="at_once">rules</option>
          <option value="in_runs">runs</option>
        </select>
      );
    const key = n.key as NumberKey;
    const by = key === "permanent_mailings" && { permanent_by_hand: true };
    return (
      <>
        <NumberBox
          label={n.does}
          value={policy[key]}
          min={0}
          onChange={(v) => setPolicy({ ...policy, [key]: v, ...by })}
        />{" "}
        {n.unit}
      </>
    );
  };
  return (
    <>
      <DataTable
        name="The policy"
        rows={[...NUMBERS, REST, WHO]}
        id={(n) => n.key}
        plain
        dense
        columns={(col) => [
          col.shown("Number", (n) => n.key, field, { whole: true }),
          col.shown(
            "What it does here",
            (n) => n.does,
            (n) => (
              <>
                {n.does}
                {n.mailings && page.cadence.length > 0 && (
                  <span className="soft"> Here these are {means(policy[n.key as NumberKey])}.</span>
                )}
              </>
            ),
          ),
          col.text("In force", (n) => inForce(n.key)),
        ]}
      />
      <h2>Silent people, and the end of what was retired</h2>
      <DataTable
        name="Silence and deletion"
        rows={SILENCE}
        id={(n) => n.key}
        plain
        dense
        columns={(col) => [
          col.shown(
            "Number",
            (n) => n.key,
            (n) => (
              <>
                <input
                  className="bare"
                  type="number"
                  style={{ width: 84 }}
                  aria-label={n.does}
                  placeholder={n.none}
                  value={silent(policy, n.key) ?? ""}
                  onChange={(e) => setSilent(n.key, e.target.value)}
                />{" "}
                {n.unit}
              </>
            ),
            { whole: true },
          ),
          col.text("What it does here", (n) => n.does),
          col.text("In force", (n) => String(silent(current.policy, n.key) ?? n.none)),
        ]}
      />
      {suggested !== undefined &&
        !current.policy.permanent_by_hand &&
        suggested !== current.policy.permanent_mailings && (
          <p className="note">
            The base’s own history says {suggested} mailings that fail for good, the policy{" "}
            {current.policy.permanent_mailings}.{" "}
            <button
              className="plain"
              onClick={() => setPolicy({ ...policy, permanent_mailings: suggested, permanent_by_hand: false })}
            >
              Take {suggested}
            </button>
          </p>
        )}
      <div style={{ display: "flex", gap: 10, alignItems: "center", margin: "14px 0" }}>
        <TextField
          size="small"
          label="Why it changes"
          value={note}
          onChange={(e) => setNote(e.target.value)}
          style={{ width: "26em" }}
        />
        <Button
          variant="contained"
          disabled={preview.isPending || note.trim() === ""}
          onClick={() => preview.mutate({ policy: whole(), note })}
        >
          See whom it changes
        </Button>
        <span className="soft">Nothing changes before you have read that.</span>
      </div>
      <Failure error={preview.error} />
      <Versions
        of="policy"
        versions={page.versions}
        current={current.id}
        back={(v) => (
          <button
            className="plain"
            disabled={preview.isPending}
            onClick={() => preview.mutate({ policy: v.policy, note: `Back to version ${v.id}` })}
          >
            Go back to it<span className="away">, version {v.id}</span>
          </button>
        )}
      />
    </>
  );
}

/** Every number of upkeep, what it does here, its versions, and what the base's own history says. */
export function PolicyPage() {
  const slips = useUpkeepSlips();
  const page = useQuery(queries.upkeepPolicy);
  return (
    <Frame slips={slips}>
      <Loaded query={page}>
        {(p) => (
          <>
            <div className="crumb">
              <span>Upkeep</span>
              <span>
                version {p.current.id}
                {p.current.at > 0 && ` of ${date(p.current.at)}`}
              </span>
            </div>
            <h1>Policy</h1>
            <p className="finding">
              An address is retired after <em>{count(p.current.policy.permanent_mailings)} mailings</em> that fail for
              good, or two that say there is no such address.
            </p>
            <Editor key={p.current.id} page={p} />
            {p.history && <Permanence history={p.history} />}
          </>
        )}
      </Loaded>
    </Frame>
  );
}

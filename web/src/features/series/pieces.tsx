import type { Schemas } from "../../api/client";
import { NumberBox } from "../../shared/NumberBox";
import { Pick } from "../../shared/Pick";
import { ProductPick } from "../../shared/ProductPick";
import { useVocabulary } from "../../shared/useVocabulary";
import { MinutePick } from "../../shared/Moment";

type Step = Schemas["SeriesStep"];
type Happening = Schemas["SeriesHappening"];

/** Hours as hours or as whole days, whichever they are. */
export function Hours({ label, value, onChange }: { label: string; value: number; onChange: (n: number) => void }) {
  const days = value >= 24 && value % 24 === 0;
  return (
    <>
      <NumberBox
        label={label}
        min={0}
        value={days ? value / 24 : value}
        onChange={(n) => onChange(Math.max(0, Math.round(n)) * (days ? 24 : 1))}
      />{" "}
      <Pick
        label={`${label}: hours or days`}
        value={days ? "days" : "hours"}
        options={[
          ["hours", "hours"],
          ["days", "days"],
        ]}
        onChange={(unit) =>
          onChange(unit === "days" ? Math.max(1, Math.round(value / 24)) * 24 : Math.max(1, days ? value - 1 : value))
        }
      />
    </>
  );
}

export const TimeOfDay = ({
  label,
  value,
  onChange,
}: {
  label: string;
  value: number;
  onChange: (m: number) => void;
}) => <MinutePick inline label={label} value={value} onChange={(m) => m !== null && onChange(m)} />;

/** Steps that send a message, with its name. */
export type Mails = { id: number; name: string }[];

export function mailsOf(steps: Step[], names: Map<number, string>): Mails {
  return steps.flatMap((s): Mails => {
    if (s.does.kind === "mail") return [{ id: s.id, name: names.get(s.does.mailing) ?? "a message" }];
    if (s.does.kind === "fork") return [...mailsOf(s.does.yes, names), ...mailsOf(s.does.no, names)];
    return [];
  });
}

/** What somebody does: within a message of the series, or elsewhere. */
export function What({
  value,
  mails,
  onChange,
}: {
  value: Happening;
  mails: Mails;
  onChange: (next: Happening) => void;
}) {
  const v = useVocabulary().data;
  const first = mails[0]?.id;
  const kinds: [Happening["kind"], string][] = [
    ...(first
      ? ([
          ["opened", "opens"],
          ["clicked", "clicks in"],
          ["replied", "replies to"],
        ] as [Happening["kind"], string][])
      : []),
    ["bought", "buys"],
    ...(v?.events.length ? ([["event", "has happen"]] as [Happening["kind"], string][]) : []),
    ...(v?.goals.length ? ([["goal", "meets the goal"]] as [Happening["kind"], string][]) : []),
  ];
  const begin = (kind: Happening["kind"]): Happening => {
    switch (kind) {
      case "opened":
      case "replied":
        return { kind, step: first! };
      case "clicked":
        return { kind, step: first!, link: null };
      case "event":
        return { kind, name: v!.events[0]! };
      case "goal":
        return { kind, goal: v!.goals[0]!.id };
      case "bought":
        return { kind, product: null, category: null };
    }
  };
  return (
    <>
      <Pick label="What happens" value={value.kind} options={kinds} onChange={(k) => onChange(begin(k))} />{" "}
      {"step" in value && (
        <Pick
          label="Message"
          value={value.step}
          options={mails.map((m) => [m.id, `“${m.name}”`] as const)}
          onChange={(step) => onChange({ ...value, step })}
        />
      )}
      {value.kind === "event" && <EventPick value={value.name} onChange={(name) => onChange({ ...value, name })} />}
      {value.kind === "goal" && (
        <Pick
          label="Goal"
          value={value.goal}
          options={(v?.goals ?? []).map((g) => [g.id, g.name] as const)}
          onChange={(goal) => onChange({ ...value, goal })}
        />
      )}
      {value.kind === "bought" && <ProductPick value={value} onChange={(b) => onChange({ ...value, ...b })} />}
    </>
  );
}

export function EventPick({ value, onChange }: { value: string; onChange: (name: string) => void }) {
  const v = useVocabulary().data;
  return (
    <Pick
      label="Event"
      value={value}
      options={[...new Set([value, ...(v?.events ?? [])])].map((e) => [e, `“${e}”`] as const)}
      onChange={onChange}
    />
  );
}

export function SegmentPick({
  label,
  value,
  onChange,
}: {
  label: string;
  value: number;
  onChange: (id: number) => void;
}) {
  const v = useVocabulary().data;
  return (
    <Pick
      label={label}
      value={value}
      options={(v?.segments ?? []).map((s) => [s.id, s.name] as const)}
      onChange={onChange}
    />
  );
}

/** A happening to begin with. */
export const firstWhat = (mails: Mails): Happening =>
  mails[0] ? { kind: "opened", step: mails[0].id } : { kind: "bought", product: null, category: null };

import type { Schemas } from "../../api/client";
import { NumberBox } from "../../shared/NumberBox";
import { Pick } from "../../shared/Pick";
import { useVocabulary } from "../../shared/useVocabulary";
import { firstWhat, type Mails, SegmentPick, What } from "./pieces";

type Question = Schemas["SeriesQuestion"];

export function Ask({ value, mails, onChange }: { value: Question; mails: Mails; onChange: (q: Question) => void }) {
  const v = useVocabulary().data;
  const kinds: [Question["kind"], string][] = [
    ["happened", "somebody who"],
    ...(v?.segments.length ? ([["segment", "somebody in the segment"]] as [Question["kind"], string][]) : []),
    ["share", "a random share of"],
  ];
  return (
    <>
      is it{" "}
      <Pick
        label="What is asked"
        value={value.kind}
        options={kinds}
        onChange={(kind) =>
          onChange(
            kind === "segment"
              ? { kind, segment: v!.segments[0]!.id }
              : kind === "share"
                ? { kind, percent: 50 }
                : { kind, what: firstWhat(mails) },
          )
        }
      />{" "}
      {value.kind === "happened" && (
        <>
          <What value={value.what} mails={mails} onChange={(what) => onChange({ ...value, what })} />, since they
          entered
        </>
      )}
      {value.kind === "segment" && (
        <SegmentPick label="Segment" value={value.segment} onChange={(segment) => onChange({ ...value, segment })} />
      )}
      {value.kind === "share" && (
        <>
          <NumberBox
            label="Percent"
            min={1}
            max={99}
            value={value.percent}
            onChange={(percent) => onChange({ ...value, percent })}
          />
          %
        </>
      )}
      ?
    </>
  );
}

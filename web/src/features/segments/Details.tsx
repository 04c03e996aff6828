import { Pick } from "../../shared/Pick";
import { NumberBox } from "../../shared/NumberBox";
import { DeedDetails } from "./DeedDetails";
import { type Leaf, type Vocabulary } from "./leaf";
import { DayPick } from "../../shared/Moment";
import { DAY } from "../../shared/time";
import { type Change, KM_PER_MILE, Words, Boxes, Home, Test } from "./pieces";

/** What follows the name of a condition. */
export function Details({
  leaf,
  vocabulary: v,
  onChange,
}: {
  leaf: Leaf;
  vocabulary: Vocabulary;
  onChange: Change<Leaf>;
}) {
  const named = (of: { id: number; name: string }[]) => of.map((x) => [x.id, x.name] as const);
  switch (leaf.kind) {
    case "text":
      return (
        <>
          <Pick
            label="Test"
            value={leaf.is}
            options={[
              ["is", "is"],
              ["is_not", "is not"],
              ["begins", "begins with"],
              ["contains", "contains"],
            ]}
            onChange={(is) => onChange({ ...leaf, is })}
          />
          <Words label="Words" value={leaf.value} onChange={(value) => onChange({ ...leaf, value })} />
        </>
      );
    case "number":
      return (
        <>
          is <Test leaf={leaf} label="Number" onChange={onChange} />
        </>
      );
    case "score":
      return (
        <>
          <Pick
            label="Score"
            value={leaf.score}
            options={named(v.scores)}
            onChange={(score) => onChange({ ...leaf, score })}
          />{" "}
          is <Test leaf={leaf} label="Points" onChange={onChange} />
        </>
      );
    case "date": {
      const [test, n] = Object.entries(leaf.is)[0] as [string, number];
      const day = test === "before" || test === "from";
      const make = (t: string, k: number) => onChange({ ...leaf, is: { [t]: k } as unknown as typeof leaf.is });
      return (
        <>
          is{" "}
          <Pick
            label="Test"
            value={test}
            options={[
              ["before", "before"],
              ["from", "on or after"],
              ["last_days", "in the last"],
              ["next_days", "in the next"],
            ]}
            onChange={(t) => make(t, t === "before" || t === "from" ? Date.UTC(2025, 0, 1) / DAY : 365)}
          />
          {day ? (
            <DayPick inline label="Date" value={n} onChange={(d) => d !== null && make(test, d)} />
          ) : (
            <>
              <NumberBox label="Days" value={n} onChange={(k) => make(test, Math.max(0, Math.round(k)))} /> days
            </>
          )}
        </>
      );
    }
    case "yes_no":
      return (
        <>
          is{" "}
          <Pick
            label="Answer"
            value={leaf.yes ? "yes" : "no"}
            options={[
              ["yes", "yes"],
              ["no", "no"],
            ]}
            onChange={(a) => onChange({ ...leaf, yes: a === "yes" })}
          />
        </>
      );
    case "missing": {
      const options: (readonly [string, string])[] = [
        ...(["country", "region", "time_zone", "source", "given_name", "family_name", "position"] as const).map(
          (f) => [f, f === "position" ? "home place" : f.replace("_", " ")] as const,
        ),
        ...v.fields.map((f) => [String(f.id), f.name] as const),
      ];
      const value = typeof leaf.field === "string" ? leaf.field : String(leaf.field.own);
      return (
        <Pick
          label="Field"
          value={value}
          options={options}
          onChange={(f) =>
            onChange({ ...leaf, field: (/^\d+$/.test(f) ? { own: Number(f) } : f) as typeof leaf.field })
          }
        />
      );
    }
    case "dated":
      return (
        <>
          is dated in the last{" "}
          <NumberBox label="Days" value={leaf.within_days} onChange={(n) => onChange({ ...leaf, within_days: n })} />{" "}
          days
        </>
      );
    case "near":
      return (
        <>
          <Pick
            label="Place"
            value={leaf.place}
            options={[
              ...v.places.map((p) => [p.name, p.name] as const),
              ...(v.places.some((p) => p.name === leaf.place)
                ? []
                : [[leaf.place, leaf.place || "coordinates"] as const]),
              ...(leaf.place === "" ? [] : [["", "coordinates …"] as const]),
            ]}
            onChange={(name) => {
              const p = v.places.find((x) => x.name === name);
              onChange({ ...leaf, place: name, ...(p ? { latitude: p.latitude, longitude: p.longitude } : {}) });
            }}
          />
          {leaf.place === "" && (
            <>
              <NumberBox
                label="Latitude"
                value={leaf.latitude}
                onChange={(latitude) => onChange({ ...leaf, latitude })}
              />
              <NumberBox
                label="Longitude"
                value={leaf.longitude}
                onChange={(longitude) => onChange({ ...leaf, longitude })}
              />
            </>
          )}
          {" within "}
          <NumberBox
            label="Distance"
            value={leaf.miles ? Math.round((leaf.km / KM_PER_MILE) * 1000) / 1000 : leaf.km}
            onChange={(n) => onChange({ ...leaf, km: leaf.miles ? n * KM_PER_MILE : n })}
          />
          <Pick
            label="Kilometres or miles"
            value={leaf.miles ? "miles" : "km"}
            options={[
              ["km", "km"],
              ["miles", "miles"],
            ]}
            onChange={(u) => {
              const n = leaf.miles ? leaf.km / KM_PER_MILE : leaf.km;
              onChange({ ...leaf, miles: u === "miles", km: u === "miles" ? n * KM_PER_MILE : n });
            }}
          />
          <Home leaf={leaf} onChange={onChange} />
        </>
      );
    case "domain":
      return (
        <>
          <Words label="Domain" value={leaf.domain} onChange={(domain) => onChange({ ...leaf, domain })} />
          <label>
            <input
              type="checkbox"
              checked={leaf.subdomains}
              onChange={(e) => onChange({ ...leaf, subdomains: e.target.checked })}
            />{" "}
            and under it
          </label>
        </>
      );
    case "list":
      return (
        <Pick
          label="List"
          value={leaf.list}
          options={named(v.lists)}
          onChange={(list) => onChange({ ...leaf, list })}
        />
      );
    case "tag":
      return (
        <Pick label="Tag" value={leaf.tag} options={named(v.tags)} onChange={(tag) => onChange({ ...leaf, tag })} />
      );
    case "topic":
      return (
        <Pick
          label="Topic"
          value={leaf.topic}
          options={named(v.topics)}
          onChange={(topic) => onChange({ ...leaf, topic })}
        />
      );
    case "segment":
      return (
        <Pick
          label="Segment"
          value={leaf.segment}
          options={named(v.segments)}
          onChange={(segment) => onChange({ ...leaf, segment })}
        />
      );
    case "consent":
      return (
        <Boxes
          all={["none", "invited", "consented", "confirmed", "paused", "withdrawn", "complained"]}
          value={leaf.states}
          onChange={(states) => onChange({ ...leaf, states })}
        />
      );
    case "status":
      return (
        <Boxes
          all={["active", "resting", "observed", "retired"]}
          value={leaf.states}
          onChange={(states) => onChange({ ...leaf, states })}
        />
      );
    case "added":
      return (
        <>
          in the last{" "}
          <NumberBox
            label="Days"
            value={leaf.within_days}
            onChange={(n) => onChange({ ...leaf, within_days: Math.max(0, Math.round(n)) })}
          />{" "}
          days
        </>
      );
    case "did":
    case "series":
    case "event":
    case "load":
    case "silent":
    case "converted":
    case "received":
    case "bought":
    case "share":
      return <DeedDetails leaf={leaf} vocabulary={v} onChange={onChange} />;
  }
}

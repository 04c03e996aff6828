import { count } from "../../shared/format";
import type { Leaf, Tree } from "./leaf";

type Near = Extract<Leaf, { kind: "near" }>;

function firstNear(tree: Tree): Near | undefined {
  if (tree.kind === "near") return tree;
  if (tree.kind === "all" || tree.kind === "any") return tree.of.map(firstNear).find(Boolean);
  return tree.kind === "not" ? firstNear(tree.of) : undefined;
}

const SIZE = 320;
/** Kilometres in a degree of latitude. */
const DEGREE = 111.2;

/** The circle of a "lives near" condition and the people around it: drawn to scale, without a map. */
export function PlaceMap({ tree, people }: { tree: Tree; people: number[][] }) {
  const near = firstNear(tree);
  if (!near || near.km <= 0) return null;
  const scale = SIZE / 2 / (near.km * 1.15);
  const squeeze = Math.cos((near.latitude * Math.PI) / 180);
  const at = ([latitude = 0, longitude = 0]: number[]) => [
    SIZE / 2 + (longitude - near.longitude) * DEGREE * squeeze * scale,
    SIZE / 2 - (latitude - near.latitude) * DEGREE * scale,
  ];
  return (
    <figure style={{ margin: "16px 0 0" }}>
      <svg
        width={SIZE}
        height={SIZE}
        role="img"
        aria-label={`${count(people.length)} people around ${near.place || "the place"}`}
        style={{ background: "var(--mist)" }}
      >
        <circle cx={SIZE / 2} cy={SIZE / 2} r={near.km * scale} fill="var(--sheet)" stroke="var(--deep)" />
        {people.map((p, i) => {
          const [x, y] = at(p);
          return <circle key={i} cx={x} cy={y} r={2} fill="var(--deep)" fillOpacity={0.55} />;
        })}
        <path
          d={`M${SIZE / 2 - 6},${SIZE / 2}h12M${SIZE / 2},${SIZE / 2 - 6}v12`}
          stroke="var(--brick)"
          strokeWidth={2}
        />
      </svg>
      <figcaption className="soft small">
        {near.km} km around {near.place || "the place"}; a dot is a person
        {people.length >= 2000 ? " (the first 2,000)" : ""}.
      </figcaption>
    </figure>
  );
}

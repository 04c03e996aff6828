import type { Schemas } from "../../api/client";

export type Tree = Schemas["Tree"];
export type Group = Extract<Tree, { kind: "all" | "any" }>;
export type Leaf = Exclude<Tree, { kind: "all" | "any" | "not" }>;
export type Vocabulary = Schemas["Vocabulary"];

/** A condition as the menu offers it: what it is called, and what it begins as. */
export type Choice = { key: string; label: string; start: (v: Vocabulary) => Leaf };

const built: [Extract<Schemas["Field"], string>, string][] = [
  ["country", "country"],
  ["region", "region"],
  ["time_zone", "time zone"],
  ["source", "source"],
  ["given_name", "given name"],
  ["family_name", "family name"],
];
const dids: [Schemas["Did"], string][] = [
  ["opened", "opened"],
  ["clicked", "clicked in"],
  ["replied", "replied to"],
  ["left", "left by"],
  ["complained", "complained about"],
];

/** The menu of conditions, in groups; custom fields stand with the profile. */
export function menu(v: Vocabulary): [string, Choice[]][] {
  const own = v.fields.map((f): Choice => {
    const key = `own:${f.id}`;
    if (f.kind === "number")
      return { key, label: f.name, start: () => ({ kind: "number", field: f.id, is: "over", value: 0 }) };
    if (f.kind === "date")
      return { key, label: f.name, start: () => ({ kind: "date", field: f.id, is: { last_days: 365 } }) };
    if (f.kind === "yes_no") return { key, label: f.name, start: () => ({ kind: "yes_no", field: f.id, yes: true }) };
    return { key, label: f.name, start: () => ({ kind: "text", field: { own: f.id }, is: "is", value: "" }) };
  });
  return [
    [
      "Profile",
      [
        ...own,
        ...built.map(([field, label]): Choice => ({
          key: field,
          label,
          start: () => ({ kind: "text", field, is: "is", value: "" }),
        })),
        {
          key: "near",
          label: "lives near",
          start: ({ places }) => {
            const p = places[0]!;
            return { kind: "near", latitude: p.latitude, longitude: p.longitude, km: 100, place: p.name, miles: false };
          },
        },
        { key: "missing", label: "a value is missing", start: () => ({ kind: "missing", field: "country" }) },
        {
          key: "domain",
          label: "address at the domain",
          start: () => ({ kind: "domain", domain: "", subdomains: true }),
        },
      ],
    ],
    [
      "Belongs to",
      [
        ...(v.lists[0]
          ? [{ key: "list", label: "on the list", start: () => ({ kind: "list", list: v.lists[0]!.id }) as Leaf }]
          : []),
        ...(v.tags[0]
          ? [{ key: "tag", label: "tagged", start: () => ({ kind: "tag", tag: v.tags[0]!.id }) as Leaf }]
          : []),
        ...(v.topics[0]
          ? [
              {
                key: "topic",
                label: "still with the topic",
                start: () => ({ kind: "topic", topic: v.topics[0]!.id }) as Leaf,
              },
            ]
          : []),
        ...(v.series[0]
          ? [
              {
                key: "series",
                label: "in the series",
                start: () => ({ kind: "series", series: v.series[0]!.id, part: "inside" }) as Leaf,
              },
            ]
          : []),
        ...(v.segments[0]
          ? [
              {
                key: "segment",
                label: "in the segment",
                start: () => ({ kind: "segment", segment: v.segments[0]!.id }) as Leaf,
              },
            ]
          : []),
      ],
    ],
    [
      "Standing",
      [
        { key: "consent", label: "consent is", start: () => ({ kind: "consent", states: ["consented", "confirmed"] }) },
        { key: "status", label: "mail status is", start: () => ({ kind: "status", states: ["active"] }) },
        { key: "load", label: "mail load is", start: () => ({ kind: "load", cells: [8, 13] }) },
        { key: "silent", label: "silent, and", start: () => ({ kind: "silent", stages: ["to_ask"] }) },
        { key: "added", label: "added", start: () => ({ kind: "added", within_days: 30 }) },
      ],
    ],
    [
      "Mail",
      [
        ...dids.map(([did, label]): Choice => ({
          key: did,
          label,
          start: () => ({
            kind: "did",
            did,
            human: true,
            times: { at_least: 1 },
            within_days: 90,
            mailing: null,
            link: null,
            series: null,
          }),
        })),
        {
          key: "received",
          label: "received",
          start: () => ({ kind: "received", times: { at_least: 1 }, within_days: 90 }),
        },
      ],
    ],
    [
      "Elsewhere",
      v.events[0]
        ? [
            {
              key: "event",
              label: "the event",
              start: () => ({ kind: "event", name: v.events[0]!, times: { at_least: 1 }, within_days: null }),
            },
          ]
        : [],
    ],
    [
      "Goals",
      v.goals[0]
        ? [
            {
              key: "converted",
              label: "met the goal",
              start: () => ({ kind: "converted", goal: v.goals[0]!.id, times: { at_least: 1 }, within_days: null }),
            },
          ]
        : [],
    ],
    [
      "Scores",
      v.scores[0]
        ? [
            {
              key: "score",
              label: "the score",
              start: () => ({ kind: "score", score: v.scores[0]!.id, is: "at_least", value: 10 }),
            },
          ]
        : [],
    ],
    [
      "Shop",
      [
        {
          key: "bought",
          label: "bought",
          start: ({ products }) => ({
            kind: "bought",
            what: "count",
            is: "at_least",
            value: 1,
            product: products[0] ?? null,
            category: null,
            within_days: null,
          }),
        },
      ],
    ],
    [
      "Chance",
      [
        {
          key: "share",
          label: "in a random share of",
          start: () => ({ kind: "share", percent: 10, salt: Math.random().toString(36).slice(2, 8) }),
        },
      ],
    ],
  ];
}

/** Which entry of the menu a condition is. */
export function keyOf(leaf: Leaf): string {
  switch (leaf.kind) {
    case "text":
      return typeof leaf.field === "string" ? leaf.field : `own:${leaf.field.own}`;
    case "number":
    case "date":
    case "yes_no":
    case "dated":
      return `own:${leaf.field}`;
    case "did":
      return leaf.did;
    default:
      return leaf.kind;
  }
}

export const isGroup = (t: Tree): t is Group => t.kind === "all" || t.kind === "any";

/** A root that is a group, whatever was stored. */
export const rooted = (t: Tree): Group => (isGroup(t) ? t : { kind: "all", of: [t] });

import type { ReactNode } from "react";
import { Details } from "./Details";
import type { Change } from "./pieces";
import { type Group, isGroup, keyOf, menu, type Tree, type Vocabulary } from "./leaf";

function Row({
  tree,
  vocabulary,
  onChange,
  onRemove,
}: {
  tree: Tree;
  vocabulary: Vocabulary;
  onChange: Change<Tree>;
  onRemove: () => void;
}) {
  const not = tree.kind === "not";
  const inner = not ? tree.of : tree;
  const wrap = (t: Tree): Tree => (not ? { kind: "not", of: t } : t);
  let body: ReactNode;
  if (isGroup(inner)) body = <GroupEditor group={inner} vocabulary={vocabulary} onChange={(g) => onChange(wrap(g))} />;
  else if (inner.kind === "not")
    body = <Row tree={inner} vocabulary={vocabulary} onChange={(t) => onChange(wrap(t))} onRemove={onRemove} />;
  else {
    const groups = menu(vocabulary);
    body = (
      <>
        <select
          className="bare"
          aria-label="Condition"
          value={keyOf(inner)}
          onChange={(e) => {
            const choice = groups.flatMap(([, c]) => c).find((c) => c.key === e.target.value);
            if (choice) onChange(wrap(choice.start(vocabulary)));
          }}
        >
          {groups.map(([title, choices]) => (
            <optgroup key={title} label={title}>
              {choices.map((c) => (
                <option key={c.key} value={c.key}>
                  {c.label}
                </option>
              ))}
            </optgroup>
          ))}
        </select>
        <Details leaf={inner} vocabulary={vocabulary} onChange={(l) => onChange(wrap(l))} />
      </>
    );
  }
  return (
    <div className="condition">
      <select
        className="bare"
        aria-label="Is or is not"
        value={not ? "not" : "yes"}
        onChange={(e) => onChange(e.target.value === "not" ? { kind: "not", of: inner } : inner)}
      >
        <option value="yes">who</option>
        <option value="not">not those who</option>
      </select>
      <div className="condition-body">{body}</div>
      <button className="plain small" onClick={onRemove}>
        Take out
      </button>
    </div>
  );
}

/** All of, or any of, these conditions; a group may stand in a group. */
export function GroupEditor({
  group,
  vocabulary,
  onChange,
}: {
  group: Group;
  vocabulary: Vocabulary;
  onChange: Change<Group>;
}) {
  const put = (i: number, t: Tree) => onChange({ ...group, of: group.of.map((x, j) => (j === i ? t : x)) });
  const add = (t: Tree) => onChange({ ...group, of: [...group.of, t] });
  const first = menu(vocabulary)[0]![1][0]!;
  return (
    <div className="group">
      <p>
        People{" "}
        <select
          className="bare"
          aria-label="All or any"
          value={group.kind}
          onChange={(e) => onChange({ ...group, kind: e.target.value as Group["kind"] })}
        >
          <option value="all">who fit all of these</option>
          <option value="any">who fit any of these</option>
        </select>
      </p>
      {group.of.map((t, i) => (
        <Row
          key={i}
          tree={t}
          vocabulary={vocabulary}
          onChange={(x) => put(i, x)}
          onRemove={() => onChange({ ...group, of: group.of.filter((_, j) => j !== i) })}
        />
      ))}
      <p>
        <button className="plain" onClick={() => add(first.start(vocabulary))}>
          Add a condition
        </button>
        <button
          className="plain"
          onClick={() => add({ kind: group.kind === "all" ? "any" : "all", of: [first.start(vocabulary)] })}
        >
          Add a group
        </button>
      </p>
    </div>
  );
}

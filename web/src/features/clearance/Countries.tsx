import type { Schemas } from "../../api/client";
import { useState } from "react";
import { count } from "../../shared/format";
import { type RuleSet } from "./rulesForm";

type View = Schemas["RulesView"];

/** Where single opt-in isn't enough. */
export function Countries({ rules, view, change }: { rules: RuleSet; view: View; change: (r: RuleSet) => void }) {
  const confirm = rules.confirm ?? [];
  const [code, setCode] = useState("");
  const toggle = (c: string, on: boolean) =>
    change({ ...rules, confirm: on ? [...confirm, c].sort() : confirm.filter((x) => x !== c) });
  const others = confirm.filter((c) => !view.countries.some((v) => v.country === c));
  return (
    <>
      <div className="filters">
        {view.countries
          .filter((c) => c.country)
          .map((c) => (
            <label key={c.country} style={{ marginRight: 14, whiteSpace: "nowrap" }}>
              <input
                type="checkbox"
                checked={confirm.includes(c.country!)}
                onChange={(e) => toggle(c.country!, e.target.checked)}
              />{" "}
              {c.country} <span className="soft">({count(c.single)} not confirmed)</span>
            </label>
          ))}
        {others.map((c) => (
          <label key={c} style={{ marginRight: 14 }}>
            <input type="checkbox" checked onChange={() => toggle(c, false)} /> {c}
          </label>
        ))}
        <input
          aria-label="Another country"
          placeholder="AT"
          size={3}
          maxLength={2}
          value={code}
          onChange={(e) => setCode(e.target.value.toUpperCase())}
        />{" "}
        <button
          className="plain"
          disabled={code.length !== 2 || confirm.includes(code)}
          onClick={() => {
            toggle(code, true);
            setCode("");
          }}
        >
          Add the country
        </button>
      </div>
    </>
  );
}

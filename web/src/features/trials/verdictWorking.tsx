import type { Schemas } from "../../api/client";
import { count, points, pValue } from "../../shared/format";

type View = Schemas["TrialView"];
type Reading = NonNullable<View["reading"]>;

export function workingOf(
  label: string,
  c: Reading["pairs"][number]["primary"],
  [base, arm]: [number, number],
  rows: Reading["arms"],
  of: (a: Reading["arms"][number]) => { count: number; of: number },
  plan: View["trial"]["plan"],
  stretches: Reading["stretches"],
) {
  const [a, b] = [rows[base]!, rows[arm]!];
  const over = stretches.length > 1;
  return {
    title: `${label}: ${points(c.difference)} points`,
    body: (
      <>
        {over ? (
          <div className="formula">
            Σ w (p<sub>{b.letter}</sub> − p<sub>{a.letter}</sub>), w ∝ n<sub>{a.letter}</sub> n<sub>{b.letter}</sub> /
            (n
            <sub>{a.letter}</sub> + n<sub>{b.letter}</sub>), over the stretches that both were open in
          </div>
        ) : (
          <div className="formula">
            p<sub>{b.letter}</sub> − p<sub>{a.letter}</sub> = {count(of(b).count)}/{count(of(b).of)} −{" "}
            {count(of(a).count)}/{count(of(a).of)}
          </div>
        )}
        <dl>
          <dt>Difference</dt>
          <dd>{points(c.difference, 2)} points</dd>
          <dt>{over ? "Interval (Newcombe, put together)" : "Interval (Newcombe)"}</dt>
          <dd>
            {points(c.lower, 2)} … {points(c.upper, 2)}
          </dd>
          <dt>{over ? "z (Cochran, Mantel, Haenszel)" : "z (score)"}</dt>
          <dd>{c.z.toFixed(2)}</dd>
          <dt>p, two-sided</dt>
          <dd>{pValue(c.p_value)}</dd>
          {!over && (
            <>
              <dt>p, Fisher exact</dt>
              <dd>{pValue(c.fisher_p)}</dd>
            </>
          )}
          <dt>Risk ratio</dt>
          <dd>{c.risk_ratio == null ? "–" : c.risk_ratio.toFixed(3)}</dd>
          <dt>Alpha, sealed</dt>
          <dd>{plan.alpha}</dd>
        </dl>
        <h3>Counted</h3>
        <p style={{ margin: 0 }}>
          Everyone assigned{of(a).of < a.counts.assigned ? " whose opens can be known" : ""}, whatever happened to their
          message; responses within {plan.window_hours} h of each person's handover.
        </p>
        <p className="soft">No filter in force.</p>
      </>
    ),
  };
}

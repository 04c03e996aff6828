import { type HourPlan, hourOf } from "./hours";

/** The hours that people are drawn to, each a button of the day. */
export function HoursPick({ plan, setPlan }: { plan: HourPlan; setPlan: (plan: HourPlan) => void }) {
  const has = new Set(plan.hours);
  const turn = (h: number) => {
    const hours = has.has(h) ? plan.hours.filter((x) => x !== h) : [...plan.hours, h].sort((a, b) => a - b);
    setPlan({ ...plan, hours });
  };
  return (
    <div role="group" aria-label="Hours that people are drawn to">
      <div className="small soft">Hours that people are drawn to, each person’s own clock</div>
      <div className="switch" style={{ flexWrap: "wrap" }}>
        {Array.from({ length: 24 }, (_, h) => (
          <button
            key={h}
            aria-pressed={has.has(h)}
            aria-label={hourOf(h)}
            onClick={() => turn(h)}
            style={{ padding: "2px 6px" }}
          >
            {String(h).padStart(2, "0")}
          </button>
        ))}
      </div>
    </div>
  );
}

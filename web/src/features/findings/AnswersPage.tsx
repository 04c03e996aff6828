import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, percent, plural } from "../../shared/format";
import { Heat } from "../../shared/picture/Heat";
import { Pick } from "../../shared/Pick";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { WEEKDAYS } from "../../shared/time";
import { Filters } from "./Filters";
import { OF_MAILINGS, useAsked } from "./asked";
import { OnPaper } from "./OnPaper";
import { SaveView } from "./SaveView";
import { useFindingsSlips } from "./useFindingsSlips";

const HOURS = Array.from({ length: 24 }, (_, h) => `${String(h).padStart(2, "0")}:00`);
const KINDS = [
  ["opens", "opens"],
  ["clicks", "clicks"],
  ["replies", "replies"],
] as const;

function Week({ week, kind }: { week: Schemas["AnswersByHour"]; kind: string }) {
  const most = Math.max(1, ...week.hours);
  const best = week.hours.indexOf(most);
  const byHour = HOURS.map((_, h) => WEEKDAYS.reduce((n, __, d) => n + week.hours[d * 24 + h]!, 0));
  const half = (() => {
    // The fewest hours of the day that hold half of it.
    const order = byHour.map((n, h) => [n, h] as const).sort((a, b) => b[0] - a[0]);
    let [sum, hours] = [0, 0];
    while (2 * sum < week.all && hours < 24) sum += order[hours++]![0];
    return hours;
  })();
  return (
    <>
      <p className="finding">
        Half of {count(week.all)} {kind} came in <em>{plural(half, "hour")}</em> of the day, most on{" "}
        {WEEKDAYS[Math.floor(best / 24)]} at {HOURS[best % 24]}.
      </p>
      <Heat
        name={`When people answer, ${kind}`}
        rows={WEEKDAYS}
        columns={HOURS}
        every={3}
        cell={(d, h) => {
          const n = week.hours[d * 24 + h]!;
          return n === 0 ? null : { words: n < 1_000 ? String(n) : "", share: n / most, says: plural(n, "answer") };
        }}
        caption="The first of each message that a person made. When mail is answered says when mail was sent, too: not an experiment."
      />
      <details>
        <summary>The same as a table</summary>
        <DataTable
          name={`Answers by hour, ${kind}`}
          rows={HOURS.map((hour, h) => ({ hour, h }))}
          id={(r) => r.hour}
          dense
          columns={(col) => [
            col.text("Hour", (r) => r.hour),
            ...WEEKDAYS.map((day, d) => col.number(day, (r) => week.hours[d * 24 + r.h])),
            col.shown(
              "Share of the day",
              (r) => byHour[r.h],
              (r) => percent(byHour[r.h]! / Math.max(1, week.all)),
              { num: true },
            ),
          ]}
        />
      </details>
    </>
  );
}

/** When people answer: weekday by hour of their first open, click and reply. */
export function AnswersPage() {
  const slips = useFindingsSlips();
  const [params] = useSearchParams();
  const { set, query } = useAsked();
  const kind = KINDS.find(([k]) => k === params.get("kind"))?.[0] ?? "clicks";
  const answers = useQuery({
    queryKey: ["findings-answers", query],
    queryFn: () => ok(api.GET("/api/findings/answers", { params: { query } })),
  });
  return (
    <Frame slips={slips}>
      <div className="crumb">
        <span>Findings</span>
        <span>when people answer</span>
      </div>
      <h1>When people answer</h1>
      <Filters total={undefined} only={OF_MAILINGS} also={<SaveView />} />
      <div className="filters" style={{ display: "flex", gap: 16, alignItems: "center", flexWrap: "wrap" }}>
        <Pick label="Which answers" value={kind} options={KINDS} onChange={(k) => set({ kind: k })} />
        <Pick
          label="Clock"
          value={query.clock ?? "recipients"}
          options={[
            ["recipients", "recipients’ clock"],
            ["utc", "UTC"],
          ]}
          onChange={(clock) => set({ clock })}
        />
      </div>
      <Loaded query={answers}>
        {(a) =>
          a[kind].all === 0 ? (
            <p className="finding">Nobody answered by {kind} in this period.</p>
          ) : (
            <>
              <Week week={a[kind]} kind={kind} />
              <p className="soft small">
                <OnPaper />
              </p>
            </>
          )
        }
      </Loaded>
    </Frame>
  );
}

import { Button, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { everything } from "../../api/cache";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { count, date, percent, plural } from "../../shared/format";
import { NumberBox } from "../../shared/NumberBox";
import { Failure, Loaded } from "../../shared/states";
import { columnsOf } from "../../shared/table/columns";
import { DataTable } from "../../shared/table/DataTable";
import { useProgress } from "../../shared/useProgress";
import { TriedOnPast, changesInWords } from "./TriedOnPast";
import { useUpkeepSlips } from "./useUpkeepSlips";
import { Versions } from "./Versions";
import { AsOf } from "../../shared/AsOf";

type Page = Schemas["MachineRulesPage"];
type Rules = Schemas["MachineRules"];
type NumberKey = { [K in keyof Rules]: Rules[K] extends number ? K : never }[keyof Rules];

/** The numbers, each with what it does. */
const NUMBERS: { key: NumberKey; unit: string; does: string; min: number; max: number }[] = [
  {
    key: "too_soon_seconds",
    unit: "seconds",
    does: "What comes within so long of delivery is a machine’s.",
    min: 0,
    max: 600,
  },
  {
    key: "burst_links",
    unit: "links",
    does: "So many different links of a message …",
    min: 2,
    max: 50,
  },
  {
    key: "burst_seconds",
    unit: "seconds",
    does: "… followed within so long are a scanner’s. Trials don’t count by it: how many links there are is the message’s own doing.",
    min: 1,
    max: 10,
  },
  {
    key: "fetch_percent",
    unit: "%",
    does: "A domain fetches images by itself when over so much of its mail is fetched within 5 minutes of delivery …",
    min: 50,
    max: 100,
  },
  {
    key: "fetch_messages",
    unit: "messages",
    does: "… and it got at least so many in the last 90 days. Whether its people opened is then unknown, which is not “no”.",
    min: 20,
    max: 100_000,
  },
];

const lines = (text: string) =>
  text
    .split(/[\n,;]+/)
    .map((l) => l.trim())
    .filter(Boolean);

/** A list of the rules, one entry a line. */
function ListBox({
  label,
  help,
  value,
  onChange,
}: Record<"label" | "help" | "value", string> & { onChange: (text: string) => void }) {
  return (
    <TextField
      multiline
      minRows={4}
      maxRows={12}
      size="small"
      label={label}
      helperText={help}
      value={value}
      onChange={(e) => onChange(e.target.value)}
      style={{ flex: "1 1 20em" }}
    />
  );
}

function TakenOut({ page }: { page: Page }) {
  const of = (key: string) => page.figures[key];
  const whole = (d: Schemas["FigureDefinition"]) =>
    of(d.key.startsWith("opens") ? "reported_opens" : "reported_clicks");
  const explains = page.catalogue.filter((d) => d.taken_out.length === 0 && !d.key.startsWith("reported"));
  // What explains nothing here would only stand in the way.
  const rows = explains.filter((d) => (of(d.key)?.count ?? 0) > 0);
  if (rows.length === 0) return null;
  return (
    <DataTable
      name="What is taken out"
      rows={rows}
      id={(d) => d.key}
      dense
      columns={(col) => [
        col.text("What explains it", (d) => d.name),
        col.number("Messages", (d) => of(d.key)?.count),
        col.shown(
          "Of those opened, or clicked",
          (d) => of(d.key)?.count,
          (d) => percent((of(d.key)?.count ?? 0) / Math.max(1, whole(d)?.count ?? 0)),
          { num: true },
        ),
      ]}
    />
  );
}

function Origins({ list }: { list: (origin: Schemas["Origin"]) => ReactNode }) {
  const origins = useQuery(queries.machineOrigins);
  return (
    <>
      <h2>Machines that no rule knows yet?</h2>
      <p className="soft" style={{ maxWidth: "62em" }}>
        Networks and agents of the last 90 days whose opens and clicks count as people’s, by how many came within two
        minutes of delivery. Of a visitor’s address only the first 24 bits (IPv4) or 48 bits (IPv6) are kept. Few people
        are so quick so often: a network with nearly all its clicks soon is a scanner’s; an agent with a few is a mail
        program.
      </p>
      {origins.isSuccess && <AsOf of="/api/upkeep/machine-rules/origins" />}
      <Loaded query={origins}>
        {(all) =>
          all.length === 0 ? (
            <p className="soft">None: nothing came so soon from ten messages or more.</p>
          ) : (
            <DataTable
              name="Where responses come from"
              rows={all}
              id={(o) => o.name}
              dense
              columns={(col) => [
                col.text("Network or agent", (o) => o.name),
                col.number("Messages", (o) => o.messages),
                col.number("Opens", (o) => o.opens),
                col.number("Clicks", (o) => o.clicks),
                col.number("Within 2 minutes", (o) => o.soon),
                col.shown(
                  "Share",
                  (o) => o.soon / (o.opens + o.clicks),
                  (o) => percent(o.soon / (o.opens + o.clicks), 0),
                  { num: true },
                ),
                col.text("Such as at", (o) => o.domain),
                col.acts(list),
              ]}
            />
          )
        }
      </Loaded>
    </>
  );
}

function Editor({ page }: { page: Page }) {
  const [rules, setRules] = useState<Rules>(page.current.rules);
  const [agents, setAgents] = useState(page.current.rules.agents.join("\n"));
  const [networks, setNetworks] = useState(page.current.rules.networks.join("\n"));
  const [note, setNote] = useState("");
  const [days, setDays] = useState(90);
  const whole = (): Rules => ({ ...rules, agents: lines(agents), networks: lines(networks) });
  const tried = useMutation({
    mutationFn: async (body: Rules) => ({
      rules: JSON.stringify(body),
      result: await ok(api.POST("/api/upkeep/machine-rules/try", { params: { query: { days } }, body })),
    }),
  });
  const trying = useProgress("machines-tried", () => undefined);
  const put = useMutation({
    mutationFn: (body: Schemas["ProposedMachineRules"]) => ok(api.POST("/api/upkeep/machine-rules", { body })),
  });
  const isTried = tried.data?.rules === JSON.stringify(whole());
  const take = (of: Rules) => {
    setRules(of);
    setAgents(of.agents.join("\n"));
    setNetworks(of.networks.join("\n"));
    window.scrollTo({ top: 0 });
  };
  const listed = (o: Schemas["Origin"]) => lines(o.network ? networks : agents).includes(o.name.toLowerCase());
  const list = (o: Schemas["Origin"]) =>
    (o.network ? setNetworks : setAgents)((was) => [...lines(was), o.name.toLowerCase()].join("\n"));
  return (
    <>
      <h2>The rules</h2>
      <DataTable
        name="The rules"
        rows={NUMBERS}
        id={(n) => n.key}
        plain
        dense
        columns={(col) => [
          col.shown(
            "Number",
            (n) => n.key,
            (n) => (
              <>
                <NumberBox
                  label={n.does}
                  value={rules[n.key]}
                  min={n.min}
                  max={n.max}
                  onChange={(v) => setRules({ ...rules, [n.key]: v })}
                />{" "}
                {n.unit}
              </>
            ),
            { whole: true },
          ),
          col.text("What it does", (n) => n.does),
          col.text("In force", (n) => String(page.current.rules[n.key])),
        ]}
      />
      <div style={{ display: "flex", gap: 16, flexWrap: "wrap", margin: "14px 0" }}>
        <ListBox
          label="Agents of proxies and scanners"
          help="Parts of the names by which they call themselves, one a line."
          value={agents}
          onChange={setAgents}
        />
        <ListBox
          label="Networks of proxies and scanners"
          help="As in 198.51.100.0/24 or 2001:db8::/32, one a line."
          value={networks}
          onChange={setNetworks}
        />
      </div>
      <div style={{ display: "flex", gap: 10, alignItems: "center", flexWrap: "wrap", margin: "14px 0" }}>
        <Button variant="contained" disabled={tried.isPending} onClick={() => tried.mutate(whole())}>
          Try them on the past
        </Button>
        <select
          className="bare"
          aria-label="How far back"
          value={days}
          onChange={(e) => setDays(Number(e.target.value))}
        >
          {[30, 90, 365].map((d) => (
            <option key={d} value={d}>
              {d} days
            </option>
          ))}
        </select>
        {tried.isPending && trying?.running && trying.total > 0 ? (
          <span className="soft">
            {count(trying.done)} of {plural(trying.total, "message")} …
          </span>
        ) : (
          <span className="soft">Nothing changes by trying.</span>
        )}
      </div>
      <Failure error={tried.error} />
      {isTried && tried.data && (
        <>
          <TriedOnPast tried={tried.data.result} rules={page.rules} />
          <div style={{ display: "flex", gap: 10, alignItems: "center", flexWrap: "wrap", margin: "14px 0" }}>
            <TextField
              size="small"
              label="Why they change"
              value={note}
              onChange={(e) => setNote(e.target.value)}
              style={{ width: "26em" }}
            />
            <Button
              variant="outlined"
              disabled={put.isPending || note.trim() === ""}
              onClick={() => put.mutate({ rules: whole(), note })}
            >
              Put them in force
            </Button>
            <span className="soft">
              What is stored is judged again. What reactions and scores did by it stays done, and sealed trials keep
              their rules.
            </span>
          </div>
          <Failure error={put.error} />
        </>
      )}
      <Origins
        list={(o) =>
          listed(o) ? (
            <span className="soft">listed above</span>
          ) : (
            <button className="plain" onClick={() => list(o)}>
              List it<span className="away">, {o.name}</span>
            </button>
          )
        }
      />
      <Versions
        of="machine rules"
        versions={page.versions}
        current={page.current.id}
        also={[
          columnsOf<Schemas["MachineRulesVersion"]>().text("What it changed of what was stored", (v) =>
            v.done_at == null ? "being judged" : v.changed ? changesInWords(v.changed) : "–",
          ),
        ]}
        back={(v) => (
          <button className="plain" onClick={() => take(v.rules)}>
            Take it up<span className="away">, version {v.id}</span>
          </button>
        )}
      />
    </>
  );
}

/** What tells a machine's open or click from a person's: the rules, what they take out, other ones tried on the past. */
export function MachinesPage() {
  const slips = useUpkeepSlips();
  const page = useQuery(queries.machineRules);
  const judging = useProgress("machines", everything, page.data !== undefined && page.data.current.done_at == null);
  return (
    <Frame slips={slips}>
      <Loaded query={page}>
        {(p) => {
          const opened = p.figures.reported_opens?.count ?? 0;
          const people = p.figures.human_opens?.count ?? 0;
          const unknown = p.figures.opens_of_unknown?.count ?? 0;
          return (
            <>
              <div className="crumb">
                <span>Upkeep</span>
                <span>
                  version {p.current.id}
                  {p.current.at > 0 && ` of ${date(p.current.at)}`}
                </span>
              </div>
              <h1>Machine rules</h1>
              {opened === 0 ? (
                <p className="finding">Nothing was opened in the last {p.days} days.</p>
              ) : (
                <p className="finding">
                  Of {count(opened)} opened messages in the last {p.days} days people opened <em>{count(people)}</em>;
                  of {count(unknown)} nobody can tell, and {count(opened - people - unknown)} were machines’ alone.
                </p>
              )}
              {judging?.running && (
                <p className="note">
                  {judging.words}: {plural(judging.done, "message")} so far. Figures move until that is done.
                </p>
              )}
              <TakenOut page={p} />
              <Editor key={p.current.id} page={p} />
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}

import { Button } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useMemo, useRef, useState } from "react";
import { Link, NavLink, Outlet, useLocation, useNavigate, useNavigationType } from "react-router";
import { everything } from "../api/cache";
import { acting, api, ok, type Schemas, setActing } from "../api/client";
import { queries } from "../api/queries";
import { bare, count, instant, percent, plural } from "../shared/format";
import { useProgress } from "../shared/useProgress";
import { useWorking, type Working, WorkingContext } from "../shared/working";
import { STATIONS } from "./stations";
import { Trouble } from "./Trouble";

const Keys = lazy(() => import("./Keys"));

/** The frame while a page's script is on its way: the layout keeps still. */
const Coming = () => (
  <div className="bench">
    <nav className="slips" />
    <main className="sheet" id="sheet" />
  </div>
);

function Clock() {
  const clock = useQuery(queries.clock);
  const progress = useProgress("clock", everything);
  const [error, setError] = useState<string | null>(null);
  const move = (hours: number) =>
    ok(api.POST("/api/clock/advance", { body: { hours } })).then(
      () => setError(null),
      (e: Error) => setError(e.message),
    );
  if (!clock.data) return null;
  const busy = progress?.running ?? false;
  return (
    <span className="clock">
      {clock.data.demo ? "demo clock " : ""}
      <b data-testid="clock">{busy ? progress?.words : instant(clock.data.now)}</b> UTC{" "}
      {clock.data.demo &&
        [
          [1, "+1 h"],
          [6, "+6 h"],
          [24, "+1 day"],
        ].map(([h, label]) => (
          <button key={h} className="plain" disabled={busy} onClick={() => void move(h as number)}>
            {label}
          </button>
        ))}
      {(error ?? progress?.error) && (
        <span className="bad" role="alert">
          {" "}
          {error ?? progress?.error}
        </span>
      )}
    </span>
  );
}

function Acting() {
  const people = useQuery({ ...queries.people, staleTime: Infinity });
  const [who, setWho] = useState(acting());
  return (
    <select
      className="acting"
      aria-label="Acting person"
      value={who}
      onChange={(e) => {
        setActing(Number(e.target.value));
        setWho(Number(e.target.value));
      }}
    >
      {people.data?.map((p) => (
        <option key={p.id} value={p.id}>
          {p.name}, {p.role}
        </option>
      ))}
    </select>
  );
}

type Figures = Schemas["Workline"];

/** How each station's figure came about; its rows, where it has any, are at /api/workline. */
function figureWorking(i: number, w: Figures, toDecide: number): Working {
  const entry = (title: string, formula: string, counted: string, rows?: string, interval?: string): Working => ({
    title,
    body: (
      <>
        <div className="formula">{formula}</div>
        {interval && (
          <dl>
            <dt>Interval (Wilson, 95%)</dt>
            <dd>{interval}</dd>
          </dl>
        )}
        <h3>Counted</h3>
        <p style={{ marginTop: 0 }}>{counted}</p>
        <p className="soft">No filter in force.</p>
        {rows && (
          <Button variant="outlined" href={`/api/workline/${rows}.csv`}>
            Rows as CSV
          </Button>
        )}
      </>
    ),
  });
  const [a, o] = [w.accepted, w.opened];
  return [
    entry(`To decide: ${count(toDecide)}`, count(toDecide), "The items on Today, one each."),
    entry(
      `Contacts: ${count(w.contacts)}`,
      count(w.contacts),
      "Everyone in the base, whatever their consent and mail status.",
      "contacts",
    ),
    entry(
      `Mailable: ${count(w.mailable)}`,
      `${count(w.mailable)} of ${count(w.contacts)}`,
      "People who consented or confirmed, whose address neither rests nor is retired, and who aren’t sunset. A mailing's own rules (topic, suppression, cap) come on top.",
      "mailable",
    ),
    entry(`To come: ${count(w.planned)}`, count(w.planned), "Mailings that are drafts or planned.", "planned"),
    entry(
      `Trials: ${count(w.to_read || w.collecting)}`,
      `${count(w.collecting)} collecting, ${count(w.to_read)} to read`,
      "Trials whose window is open, and trials whose verdict waits for a decision; the second comes first on the line.",
      "trials",
    ),
    entry(
      `In series: ${count(w.in_series)}`,
      `${count(w.in_series)} in ${count(w.series)}`,
      "People who are inside a running series now, once for each that they are in.",
    ),
    entry(
      `Accepted: ${percent(a.rate)}`,
      `${count(a.count)} / ${count(a.of)} = ${percent(a.rate, 2)}`,
      "Marketing messages of the last 30 days that their hosts took, of those handed over.",
      "accepted",
      `${bare(a.lower, 2)} to ${bare(a.upper, 2)}`,
    ),
    entry(
      `Opened: ${percent(o.rate)}`,
      `${count(o.count)} / ${count(o.of)} = ${percent(o.rate, 2)}`,
      `Human opens of the marketing messages of the last 30 days, of those delivered to people whose opens can be known. ${plural(w.opens_unknown, "delivered message")} went to people of domains that fetch images by themselves: theirs aren't known.`,
      "opened",
      `${bare(o.lower, 2)} to ${bare(o.upper, 2)}`,
    ),
    entry(
      `Resting: ${count(w.resting)}`,
      count(w.resting),
      `Addresses that rest, and those mailed and watched after a rest. ${plural(w.due, "of them waits", "of them wait")} for a cleaning run to decide.`,
      "resting",
    ),
  ][i]!;
}

function Workline() {
  const { show } = useWorking();
  const w = useQuery(queries.workline).data;
  const today = useQuery(queries.today).data;
  const figures: [string, string][] = [
    [today ? count(today.length) : "", "to decide"],
    [w ? count(w.contacts) : "", ""],
    [w ? count(w.mailable) : "", "mailable"],
    [w ? count(w.planned) : "", "to come"],
    [w ? count(w.to_read || w.collecting) : "", w?.to_read ? "to read" : "collecting"],
    [w ? count(w.in_series) : "", "inside"],
    [w ? percent(w.accepted.rate) : "", "accepted"],
    [w ? percent(w.opened.rate) : "", "opened"],
    w?.due ? [count(w.due), "due"] : [w ? count(w.resting) : "", "resting"],
  ];
  // The stream's thickness at a station is the number of people there.
  const all = w?.contacts || 1;
  const opened = w ? w.mailable * (w.opened.rate ?? 0) : 0;
  const mailable = w?.mailable ?? all;
  const accepted = w ? w.mailable * (w.accepted.rate ?? 0) : 0;
  const people = [
    all,
    all,
    mailable,
    mailable,
    mailable,
    w?.in_series ?? 0,
    accepted,
    opened,
    w?.due || w?.resting || 0,
  ];
  const half = people.map((p) => Math.max(1.2, (p / all) * 13));
  const step = 1232 / STATIONS.length;
  const edge = (sign: number) =>
    half.map((h, i) => `${24 + i * step},${40 + sign * h} ${24 + i * step + step * 0.75},${40 + sign * h}`);
  const top = edge(-1);
  const bottom = edge(1)
    .map((pair) => pair.split(" ").reverse().join(" "))
    .reverse();
  return (
    <div className="workline">
      <svg viewBox="0 0 1280 78" preserveAspectRatio="none" aria-hidden="true">
        <polygon
          points={`0,${40 - half[0]!} ${top.join(" ")} 1280,${40 - half.at(-1)!} 1280,${40 + half.at(-1)!} ${bottom.join(" ")} 0,${40 + half[0]!}`}
          fill="var(--deep-wash)"
        />
        {half.map((h, i) => (
          <rect key={i} x={24 + i * step} y={40 - h} width={2} height={2 * h} fill="var(--deep)" />
        ))}
      </svg>
      <nav className="stops" aria-label="Stations">
        {STATIONS.map((s, i) => (
          <div key={s.path} className="stop">
            <NavLink to={s.path} className="lab">
              {s.name}
            </NavLink>
            <span className="fig">
              <button
                className="figure"
                aria-label={`${figures[i]![0]} ${figures[i]![1] || s.name}: working`}
                onClick={() => w && show(figureWorking(i, w, today?.length ?? 0))}
              >
                {figures[i]![0]} <small>{figures[i]![1]}</small>
              </button>
            </span>
          </div>
        ))}
      </nav>
    </div>
  );
}

export function Shell() {
  const [working, setWorking] = useState<Working>(null);
  const [keys, setKeys] = useState(false);
  const navigate = useNavigate();
  const { pathname } = useLocation();
  const how = useNavigationType();
  const seenAt = useRef(pathname);
  useEffect(() => {
    if (seenAt.current === pathname) return;
    seenAt.current = pathname;
    // Another page begins at its top; going back, the browser knows where one was.
    if (how !== "POP") window.scrollTo({ top: 0 });
  }, [pathname, how]);
  const value = useMemo(() => ({ working, show: setWorking }), [working]);
  const [shownAt, setShownAt] = useState(pathname);
  if (shownAt !== pathname) {
    // A working belongs to the page it was opened on.
    setShownAt(pathname);
    setWorking(null);
  }
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const target = e.target as HTMLElement;
      if (e.key === "Escape") setWorking(null);
      const writes = ["INPUT", "TEXTAREA", "SELECT"].includes(target.tagName) || target.isContentEditable;
      // The picker's parts of a date take keys, too.
      if (writes || target.role === "spinbutton" || e.ctrlKey || e.metaKey || e.altKey) return;
      const station = STATIONS[Number(e.key) - 1];
      if (station) void navigate(station.path);
      else if (e.key === "?") setKeys(true);
      else if (e.key === "/") void navigate("/contacts?find");
      else if (e.key === "i") void navigate("/contacts/import");
      else if (e.key === "n") void navigate("/mailings/new");
      else if (e.key === "s") void navigate("/setup");
      else return;
      e.preventDefault();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [navigate]);
  return (
    <WorkingContext value={value}>
      <a className="skip" href="#sheet">
        To the sheet
      </a>
      <header className="masthead">
        <Link to="/today" className="mark">
          rinse
        </Link>
        <span className="spring" />
        <Clock />
        <Link to="/contacts?find" style={{ color: "inherit", textDecoration: "none" }}>
          Find <kbd>/</kbd>
        </Link>
        <button className="plain" style={{ color: "inherit" }} onClick={() => setKeys(true)}>
          Keys <kbd>?</kbd>
        </button>
        <NavLink to="/setup" className="apart">
          Setup
        </NavLink>
        <Acting />
      </header>
      <Workline />
      <Trouble at={pathname}>
        <Suspense fallback={<Coming />}>
          <Outlet />
        </Suspense>
      </Trouble>
      {keys && (
        <Suspense>
          <Keys close={() => setKeys(false)} />
        </Suspense>
      )}
    </WorkingContext>
  );
}

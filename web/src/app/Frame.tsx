import { type ReactNode } from "react";
import { NavLink } from "react-router";
import { useWorking } from "../shared/working";

export type Slip = { to: string; title: string; words?: string };

export function Slips({ groups }: { groups: { title: string; slips: Slip[] }[] }) {
  return (
    <nav className="slips" aria-label="Slips">
      {groups.map((g) => (
        <div key={g.title}>
          <h2>{g.title}</h2>
          {g.slips.map((s) => (
            <NavLink key={s.to} to={s.to} end className="slip">
              <b>{s.title}</b>
              {s.words && <span>{s.words}</span>}
            </NavLink>
          ))}
        </div>
      ))}
    </nav>
  );
}

/** Slips, sheet and, when something is opened, the working. */
export function Frame({ slips, children }: { slips: { title: string; slips: Slip[] }[]; children: ReactNode }) {
  const { working, show } = useWorking();
  return (
    <div className={working ? "bench open" : "bench"}>
      <Slips groups={slips} />
      <main className="sheet" id="sheet">
        {children}
      </main>
      {working && (
        <aside className="working" aria-label="Working">
          <button className="plain small" style={{ float: "right" }} onClick={() => show(null)}>
            Close
          </button>
          <h2>{working.title}</h2>
          {working.body}
        </aside>
      )}
    </div>
  );
}

import { type ReactNode } from "react";
import { Link, useLocation } from "react-router";
import { useWorking } from "../shared/working";

export type Slip = { to: string; title: string; words?: string };

export function Slips({ groups }: { groups: { title: string; slips: Slip[] }[] }) {
  const { pathname, search } = useLocation();
  const here = pathname + search;
  // The slip with the longest address that this one begins with: a list, rather than everyone.
  const fits = groups
    .flatMap((g) => g.slips.map((s) => s.to))
    .filter((to) => (to.includes("?") ? here === to || here.startsWith(`${to}&`) : pathname === to));
  const active = fits.sort((a, b) => b.length - a.length)[0];
  return (
    <nav className="slips" aria-label="Slips">
      {groups.map((g) => (
        <div key={g.title}>
          <h2>{g.title}</h2>
          {g.slips.map((s) => (
            <Link
              key={s.to}
              to={s.to}
              className={s.to === active ? "slip active" : "slip"}
              aria-current={s.to === active ? "page" : undefined}
            >
              <b>{s.title}</b>
              {s.words && <span>{s.words}</span>}
            </Link>
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

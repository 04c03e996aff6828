import type { ReactNode } from "react";
import type { Schemas } from "../api/client";
import { bare, count, interval, percent } from "./format";
import { useWorking } from "./working";

type Rate = Schemas["Rate"];

/** A figure that opens its working in the drawer. */
export function Figure({ title, working, children }: { title: string; working: ReactNode; children: ReactNode }) {
  const { show } = useWorking();
  return (
    <button className="figure" onClick={() => show({ title, body: working })}>
      {children}
    </button>
  );
}

/** What stands under a rate: its interval, or that there are too few to tell. */
export function RateNote({ rate: r, digits }: { rate: Rate; digits: number }) {
  return <div className="soft small">{interval(r, digits)}</div>;
}

/** How a rate comes about: its counts, its interval, and what its working adds. */
export function RateWorking({ rate: r, digits, children }: { rate: Rate; digits: number; children?: ReactNode }) {
  return (
    <>
      <div className="formula">
        {count(r.count)} / {count(r.of)} = {percent(r.rate, digits)}
      </div>
      <dl>
        <dt>Interval (Wilson, 95%)</dt>
        <dd>
          {bare(r.lower, 2)} to {bare(r.upper, 2)}
        </dd>
        {children}
      </dl>
    </>
  );
}

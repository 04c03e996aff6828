import { useQuery } from "@tanstack/react-query";
import { type ReactNode } from "react";
import { type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { count } from "../../shared/format";
import { Effects } from "./Effects";
import { DAY } from "../../shared/time";

/** How long ago a list was looked over; older than half a year shows. */
export function Looked({ at, now }: { at: number; now: number }) {
  const days = Math.max(0, Math.floor((now - at) / DAY));
  if (at === 0) return <span className="wait">never</span>;
  return (
    <span className={days > 180 ? "wait" : ""}>
      {days === 0 ? "today" : days === 1 ? "yesterday" : `${count(days)} days ago`}
    </span>
  );
}

export function useNow() {
  return useQuery(queries.clock).data?.now ?? 0;
}

/** What a change would do, before it is done. */
export function Seen({ effects, children }: { effects: Schemas["Effect"][]; children: ReactNode }) {
  return (
    <div role="status">
      <p>{children}</p>
      <Effects effects={effects} />
    </div>
  );
}

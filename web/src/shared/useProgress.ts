import { useEffect, useState } from "react";
import type { Schemas } from "../api/client";

export type Progress = { running: boolean; done: number; total: number; words: string; error: string | null };

/** Follows long work by server-sent events; picks it up again after a reload. */
export function useProgress(job: string, onEnd: () => void): Progress | null {
  const [progress, setProgress] = useState<Progress | null>(null);
  useEffect(() => {
    const source = new EventSource(`/api/progress/${job}`);
    let ran = false;
    source.onmessage = (e) => {
      const p = JSON.parse(e.data) as Progress;
      setProgress(p);
      if (ran && !p.running) onEnd();
      ran = p.running;
    };
    return () => source.close();
    // The caller's onEnd only refreshes queries, so the newest one isn't needed.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [job]);
  return progress;
}

export type Named = Schemas["Named"];

import { useEffect, useRef, useState } from "react";
import { hear, type Progress } from "./progressStream";

/**
 * Follows long work; picks it up again after a reload. Only the newest state is told, so short work may never be
 * seen running: its count of ends shows that it ran.
 * `expected`: the page believes that it runs, so word that it doesn't means it ended meanwhile.
 */
export function useProgress(job: string, onEnd: () => void, expected = false): Progress | null {
  const [progress, setProgress] = useState<Progress | null>(null);
  const believed = useRef(expected);
  useEffect(() => {
    believed.current = expected;
  }, [expected]);
  useEffect(() => {
    let ran = false;
    let ends: number | undefined;
    return hear(job, (p) => {
      setProgress(p);
      const over = ran || believed.current || (ends !== undefined && p.ended !== ends);
      if (over && !p.running) onEnd();
      ran = p.running;
      ends = p.ended;
    });
    // The caller's onEnd only refreshes queries, so the newest one isn't needed.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [job]);
  return progress;
}

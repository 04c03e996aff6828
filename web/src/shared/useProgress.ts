import { useEffect, useRef, useState } from "react";

export type Progress = {
  running: boolean;
  done: number;
  total: number;
  words: string;
  error: string | null;
  ended: number;
};

/**
 * Follows long work by server-sent events; picks it up again after a reload. Events tell the newest
 * state only, so short work may never be seen running: its count of ends shows that it ran.
 * `expected`: the page believes that it runs, so word that it doesn't means it ended meanwhile.
 */
export function useProgress(job: string, onEnd: () => void, expected = false): Progress | null {
  const [progress, setProgress] = useState<Progress | null>(null);
  const believed = useRef(expected);
  useEffect(() => {
    believed.current = expected;
  }, [expected]);
  useEffect(() => {
    let source: EventSource | undefined;
    let ran = false;
    let ends: number | undefined;
    const open = () => {
      source = new EventSource(`/api/progress/${job}`);
      source.onmessage = (e) => {
        const p = JSON.parse(e.data) as Progress;
        setProgress(p);
        const over = ran || believed.current || (ends !== undefined && p.ended !== ends);
        if (over && !p.running) onEnd();
        ran = p.running;
        ends = p.ended;
      };
    };
    const close = () => source?.close();
    // A page kept for going back would hold its connection, and a browser has six for a host.
    const back = (e: PageTransitionEvent) => e.persisted && open();
    open();
    window.addEventListener("pagehide", close);
    window.addEventListener("pageshow", back);
    return () => {
      close();
      window.removeEventListener("pagehide", close);
      window.removeEventListener("pageshow", back);
    };
    // The caller's onEnd only refreshes queries, so the newest one isn't needed.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [job]);
  return progress;
}

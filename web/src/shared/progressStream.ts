import type { Schemas } from "../api/client";

/**
 * How all long work stands, from one stream for the whole browser: a browser has six connections for a host, so
 * a stream in every tab would leave none for pages. One tab leads: it holds a lock, follows the stream and passes
 * on what it says; when it closes, another takes its place.
 */
export type Progress = Schemas["JobProgress"];
type Hears = (p: Progress) => void;

const NAME = "rinse-progress";
const states = new Map<string, Progress>();
const hearers = new Map<string, Set<Hears>>();
let channel: BroadcastChannel | undefined;
let stop: (() => void) | undefined;

function take(all: Progress[]) {
  for (const p of all) {
    states.set(p.job, p);
    hearers.get(p.job)?.forEach((hears) => hears(p));
  }
}

/** What the stream has told already is newer than an answer that was asked for before it. */
async function catchUp() {
  const answer = await fetch("/api/progress").catch(() => undefined);
  if (answer?.ok) take(((await answer.json()) as Progress[]).filter((p) => !states.has(p.job)));
}

function follow(): () => void {
  const source = new EventSource("/api/progress/stream");
  source.onmessage = (e) => {
    const all = JSON.parse(e.data as string) as Progress[];
    take(all);
    channel?.postMessage(all);
  };
  return () => source.close();
}

function begin() {
  const waits = new AbortController();
  stop = () => waits.abort();
  void catchUp();
  channel = new BroadcastChannel(NAME);
  channel.onmessage = (e) => take(e.data as Progress[]);
  const lead = () =>
    new Promise<void>((over) => {
      const close = follow();
      stop = () => {
        close();
        over();
      };
    });
  // Aborted while it waits: the page is left.
  navigator.locks.request(NAME, { signal: waits.signal }, lead).catch(() => undefined);
}

function end() {
  stop?.();
  stop = undefined;
  channel?.close();
  channel = undefined;
}

window.addEventListener("pagehide", end);
// A page that was kept for going back missed what happened meanwhile.
window.addEventListener("pageshow", (e) => {
  if (e.persisted && hearers.size > 0) {
    states.clear();
    begin();
  }
});

/** Hears of some work, at once where something is known of it; returns how to stop. */
export function hear(job: string, hears: Hears): () => void {
  if (!stop) begin();
  const all = hearers.get(job) ?? new Set<Hears>();
  hearers.set(job, all.add(hears));
  const known = states.get(job);
  if (known) hears(known);
  return () => {
    all.delete(hears);
  };
}

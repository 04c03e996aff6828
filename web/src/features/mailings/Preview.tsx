import { Button, TextField } from "@mui/material";
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { api, ok, post } from "../../api/client";
import { letter } from "../../shared/format";
import { Failure } from "../../shared/states";
import type { Draft } from "./draft";
import { TestSend } from "./TestSend";

const VIEWS = ["wide", "narrow", "dark", "text"] as const;
type View = (typeof VIEWS)[number];

/** Who the message is shown as: nobody, with every default, or somebody found by address or name. */
export function ShownAs({ as, setAs }: { as: number | null; setAs: (id: number | null) => void }) {
  const [search, setSearch] = useState("");
  const late = useDeferredValue(search.trim());
  const found = useQuery({
    queryKey: ["contacts", "shown-as", late],
    queryFn: () => ok(api.GET("/api/contacts", { params: { query: { search: late } } })),
    enabled: late.length > 1,
    placeholderData: keepPreviousData,
  });
  const people = late.length > 1 ? (found.data?.rows ?? []).slice(0, 5) : [];
  return (
    <div>
      <TextField
        label="Shown as"
        value={search}
        placeholder="nobody: defaults show; or find a person"
        slotProps={{ inputLabel: { shrink: true } }}
        onChange={(e) => {
          setSearch(e.target.value);
          if (e.target.value.trim() === "") setAs(null);
        }}
      />
      {people.length > 0 && as === null && (
        <div className="small" style={{ marginTop: 4 }}>
          {people.map((p) => (
            <button
              key={p.id}
              className="plain"
              style={{ display: "block" }}
              onClick={() => {
                setAs(p.id);
                setSearch(p.address);
              }}
            >
              {p.address}
            </button>
          ))}
        </div>
      )}
      {as !== null && (
        <button
          className="plain small"
          onClick={() => {
            setAs(null);
            setSearch("");
          }}
        >
          Show it as nobody again
        </button>
      )}
    </div>
  );
}

async function openMessage(body: object) {
  const made = await post("/api/message.eml", JSON.stringify(body), "The message can't be made.", "application/json");
  const link = document.createElement("a");
  link.href = URL.createObjectURL(await made.blob());
  link.download = "message.eml";
  link.click();
  URL.revokeObjectURL(link.href);
}

/** The message as somebody would see it, and ways to try it out. */
export function Preview({ draft, mailing }: { draft: Draft; mailing: number | null }) {
  const [view, setView] = useState<View>("wide");
  const [as, setAs] = useState<number | null>(null);
  const [chosen, setArm] = useState(0);
  const arm = Math.min(chosen, draft.subjects.length - 1);
  const late = useDeferredValue(draft);
  const body = { draft: late, contact: as, arm };
  const shown = useQuery({
    queryKey: ["preview", body],
    queryFn: () => ok(api.POST("/api/message-preview", { body })),
    placeholderData: keepPreviousData,
    enabled: late.letterhead_id > 0,
  });
  const file = useMutation({ mutationFn: () => openMessage({ draft, contact: as, arm }) });
  const s = shown.data;
  // A message that says nothing of dark readers is turned over by them.
  const turned = view === "dark" && s !== undefined && !s.html.includes("prefers-color-scheme");
  return (
    <div data-testid="preview">
      <div style={{ display: "flex", gap: 12, flexWrap: "wrap", alignItems: "center", marginBottom: 6 }}>
        <span className="switch" role="group" aria-label="Shown how">
          {VIEWS.map((v) => (
            <button key={v} aria-pressed={v === view} onClick={() => setView(v)}>
              {v}
            </button>
          ))}
        </span>
        {draft.subjects.length > 1 && (
          <span className="switch" role="group" aria-label="Which variant">
            {draft.subjects.map((_, i) => (
              <button key={i} aria-pressed={i === arm} onClick={() => setArm(i)}>
                Variant {letter(i)}
              </button>
            ))}
          </span>
        )}
        {s && <span className="soft small">{Math.max(1, Math.round(s.bytes / 1000))} kB of 100</span>}
      </div>
      <p style={{ margin: "4px 0" }}>
        <b>{s?.subject || "(no subject)"}</b> <span className="soft">{s?.preheader}</span>
      </p>
      {shown.isError ? (
        <p className="note bad">{shown.error.message}</p>
      ) : view === "text" ? (
        <pre
          className="scroll small"
          tabIndex={0}
          style={{ whiteSpace: "pre-wrap", height: 380, border: "1px solid var(--rule)", padding: 10, margin: 0 }}
        >
          {s?.text}
        </pre>
      ) : (
        <iframe
          title="The message as it would be seen"
          sandbox=""
          srcDoc={s?.html ?? ""}
          style={{
            width: view === "narrow" ? 340 : "100%",
            height: 380,
            border: "1px solid var(--rule)",
            background: "#fff",
            colorScheme: view === "dark" ? "dark" : "light",
            filter: turned ? "invert(1) hue-rotate(180deg)" : undefined,
          }}
        />
      )}
      <p className="soft small" style={{ margin: "2px 0 8px" }}>
        {view === "text" && s?.derived
          ? "Made from the message; write a text part of your own under the source."
          : turned
            ? "It says nothing about dark readers, so they turn its colours over, as shown."
            : "Images from elsewhere are left out here: Rinse asks no outside host. Upload them, and they show."}
      </p>
      <ShownAs as={as} setAs={setAs} />
      <TestSend body={{ draft, contact: as, arm, mailing }} placeholder="you@…" ready={(to) => to.includes("@")}>
        <Button
          variant="outlined"
          style={{ whiteSpace: "nowrap", flexShrink: 0 }}
          disabled={file.isPending}
          onClick={() => file.mutate()}
        >
          Save as .eml
        </Button>
      </TestSend>
      <Failure error={file.error} />
    </div>
  );
}

import { Button, MenuItem, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { lazy, type RefObject, Suspense, useState } from "react";
import { api, ok, post, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { FileButton } from "../../shared/FileButton";
import { Failure } from "../../shared/states";
import type { CodeHandle, CodeProps } from "../../shared/CodeArea";
import { useCheck } from "./useCheck";
import type { Draft } from "./draft";

const Code = lazy(() => import("../../shared/CodeArea"));

/** The editor of source, which comes when a message is first edited. */
export const SourceArea = (p: CodeProps) => (
  <Suspense fallback={<p className="soft">Reading …</p>}>
    <Code {...p} />
  </Suspense>
);

async function uploadImage(file: File): Promise<Schemas["Image"]> {
  const path = `/api/images?name=${encodeURIComponent(file.name)}`;
  return (await post(path, file, "The image was refused.")).json() as Promise<Schemas["Image"]>;
}

/** Pieces to put in, and images. What is put in is plain source, to be changed like the rest. */
function Pieces({ d, put, selected }: { d: Draft; put: (source: string) => void; selected: () => string }) {
  const parts = useQuery(queries.parts);
  const images = useQuery(queries.images);
  const [keep, setKeep] = useState<{ name: string; purpose: string; source: string } | null>(null);
  const address = (key: string) => `${location.origin}/m/${key}`;
  const image = (i: Schemas["Image"]) => {
    const alt = i.name.replace(/\.\w+$/, "");
    put(
      d.format === "markdown"
        ? `![${alt}](${address(i.key)})`
        : `<img src="${address(i.key)}" alt="${alt}" width="560">`,
    );
  };
  const upload = useMutation({
    mutationFn: uploadImage,
    onSuccess: async (i) => {
      image(i);
    },
  });
  const save = useMutation({
    mutationFn: () => ok(api.POST("/api/message-parts", { body: { id: 0, format: d.format ?? "html", ...keep! } })),
    onSuccess: async () => {
      setKeep(null);
    },
  });
  const fitting = (parts.data ?? []).filter((p) => p.format === d.format);
  const purposes = [...new Set((parts.data ?? []).map((p) => p.purpose))];
  return (
    <>
      <div style={{ display: "flex", gap: 10, flexWrap: "wrap", alignItems: "center" }}>
        <TextField
          select
          label="Put a piece in"
          value=""
          style={{ width: 190 }}
          onChange={(e) => put(fitting[Number(e.target.value)]!.source)}
        >
          {fitting.map((p, i) => (
            <MenuItem key={i} value={i}>
              {p.purpose}: {p.name}
            </MenuItem>
          ))}
        </TextField>
        <TextField
          select
          label="Put an image in"
          value=""
          style={{ width: 160 }}
          disabled={(images.data ?? []).length === 0}
          onChange={(e) => image(images.data![Number(e.target.value)]!)}
        >
          {(images.data ?? []).map((x, i) => (
            <MenuItem key={x.id} value={i}>
              {x.name}
            </MenuItem>
          ))}
        </TextField>
        <FileButton
          label="An image"
          accept="image/png,image/jpeg,image/gif,image/webp"
          variant="outlined"
          busy={upload.isPending}
          onFile={(f) => upload.mutate(f)}
        >
          Upload an image
        </FileButton>
        <button className="plain small" onClick={() => setKeep({ name: "", purpose: "news", source: selected() })}>
          Keep the selected source as a piece
        </button>
      </div>
      {keep && (
        <div className="two" style={{ marginTop: 8 }}>
          <TextField
            label="Name of the piece"
            value={keep.name}
            onChange={(e) => setKeep({ ...keep, name: e.target.value })}
          />
          <div style={{ display: "flex", gap: 10 }}>
            <TextField
              select
              label="What it is for"
              value={keep.purpose}
              onChange={(e) => setKeep({ ...keep, purpose: e.target.value })}
            >
              {purposes.map((p) => (
                <MenuItem key={p} value={p}>
                  {p}
                </MenuItem>
              ))}
            </TextField>
            <Button variant="outlined" onClick={() => save.mutate()} disabled={save.isPending}>
              Keep
            </Button>
          </div>
        </div>
      )}
      <Failure error={upload.error ?? save.error} />
    </>
  );
}

/** The source of the message: body, and a text part written by hand where the derived one won't do. */
export function Source({
  d,
  setD,
  draft,
  mailing,
  area,
}: {
  d: Draft;
  setD: (d: Draft) => void;
  /** As it is checked: under its letterhead. */
  draft: Draft;
  mailing: number | null;
  area: RefObject<CodeHandle | null>;
}) {
  const found = useCheck(draft, mailing).data ?? [];
  const notes = (part: string) =>
    found.flatMap((f) => (f.part === part && f.line ? [{ line: f.line, level: f.level, words: f.words }] : []));
  const names = useQuery(queries.placeholders).data ?? [];
  const [ownText, setOwnText] = useState(d.text.trim() !== "");
  return (
    <div>
      <div style={{ display: "flex", gap: 12, alignItems: "center", marginBottom: 4 }}>
        <span className="switch" role="group" aria-label="Written in" style={{ flexShrink: 0 }}>
          {(["html", "markdown"] as const).map((f) => (
            <button key={f} aria-pressed={d.format === f} onClick={() => setD({ ...d, format: f })}>
              {f === "html" ? "HTML" : "Markdown"}
            </button>
          ))}
        </span>
        <span className="soft small">A style element's rules are put on their elements.</span>
      </div>
      <SourceArea
        label={d.format === "markdown" ? "Markdown" : "HTML"}
        rows={17}
        value={d.html}
        onChange={(html) => setD({ ...d, html })}
        names={names}
        notes={notes("html")}
        language={d.format === "markdown" ? "markdown" : "html"}
        handle={area}
      />
      <Pieces d={d} put={(s) => area.current?.put(`${s}\n`)} selected={() => area.current?.selected() ?? ""} />
      <div style={{ marginTop: 8 }}>
        {ownText ? (
          <>
            <SourceArea
              label="Text"
              rows={8}
              value={d.text}
              onChange={(text) => setD({ ...d, text })}
              names={names}
              notes={notes("text")}
              language="text"
            />
            <button
              className="plain small"
              onClick={() => {
                setOwnText(false);
                setD({ ...d, text: "" });
              }}
            >
              Make the text part from the message again
            </button>
          </>
        ) : (
          <button className="plain small" onClick={() => setOwnText(true)}>
            The text part is made from the message: write one of its own instead
          </button>
        )}
      </div>
    </div>
  );
}

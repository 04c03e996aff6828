import { Button, MenuItem, TextField } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type RefObject, useId, useRef, useState } from "react";
import { api, ok, post, type Schemas } from "../../api/client";
import { FileButton } from "../../shared/FileButton";
import { Failure } from "../../shared/states";
import type { Draft } from "./draft";

const BEGUN = /\{\{\s*([\w]*)$/;

type Props = { label: string; rows: number; value: string; onChange: (v: string) => void; names: string[] };

/** Source with its placeholders completed: the names that fit stand under it while one is being typed. */
export function SourceArea({
  label,
  rows,
  value,
  onChange,
  names,
  area,
}: Props & { area: RefObject<HTMLTextAreaElement | null> }) {
  const id = useId();
  const [begun, setBegun] = useState<string | null>(null);
  const fits = begun === null ? [] : names.filter((n) => n.startsWith(begun) && n !== begun).slice(0, 8);
  const look = () => {
    const at = area.current?.selectionStart ?? 0;
    setBegun(BEGUN.exec(value.slice(0, at))?.[1] ?? null);
  };
  const complete = (name: string) => {
    const at = area.current?.selectionStart ?? value.length;
    const before = value.slice(0, at).replace(BEGUN, `{{ ${name}`);
    const closed = /^\s*(\||\}\})/.test(value.slice(at)) ? "" : " }}";
    onChange(before + closed + value.slice(at));
    setBegun(null);
    requestAnimationFrame(() => {
      area.current?.focus();
      area.current?.setSelectionRange(before.length + closed.length, before.length + closed.length);
    });
  };
  return (
    <>
      <label className="small soft" style={{ display: "block" }} htmlFor={id}>
        {label}
      </label>
      <textarea
        id={id}
        ref={area}
        className="code"
        rows={rows}
        spellCheck={false}
        value={value}
        onChange={(e) => {
          onChange(e.target.value);
          setBegun(BEGUN.exec(e.target.value.slice(0, e.target.selectionStart))?.[1] ?? null);
        }}
        onClick={look}
        onKeyDown={(e) => {
          if (fits.length > 0 && e.key === "Tab" && !e.shiftKey) {
            e.preventDefault();
            complete(fits[0]!);
          } else if (e.key === "Escape") setBegun(null);
        }}
      />
      <div className="small" style={{ minHeight: 20 }} aria-live="polite">
        {fits.length > 0 && <span className="soft">Tab for the first: </span>}
        {fits.map((n) => (
          <button key={n} className="plain" style={{ marginRight: 10 }} onClick={() => complete(n)}>
            {n}
          </button>
        ))}
      </div>
    </>
  );
}

async function uploadImage(file: File): Promise<Schemas["Image"]> {
  const path = `/api/images?name=${encodeURIComponent(file.name)}`;
  return (await post(path, file, "The image was refused.")).json() as Promise<Schemas["Image"]>;
}

/** Pieces to put in, and images. What is put in is plain source, to be changed like the rest. */
function Pieces({ d, put, selected }: { d: Draft; put: (source: string) => void; selected: () => string }) {
  const client = useQueryClient();
  const parts = useQuery({ queryKey: ["parts"], queryFn: () => ok(api.GET("/api/message-parts")) });
  const images = useQuery({ queryKey: ["images"], queryFn: () => ok(api.GET("/api/images")) });
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
      await client.invalidateQueries({ queryKey: ["images"] });
    },
  });
  const save = useMutation({
    mutationFn: () => ok(api.POST("/api/message-parts", { body: { id: 0, format: d.format ?? "html", ...keep! } })),
    onSuccess: async () => {
      setKeep(null);
      await client.invalidateQueries({ queryKey: ["parts"] });
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

/** The source of the message: body, and a text part of one's own where the derived one won't do. */
export function Source({
  d,
  setD,
  area,
}: {
  d: Draft;
  setD: (d: Draft) => void;
  area: RefObject<HTMLTextAreaElement | null>;
}) {
  const names = useQuery({ queryKey: ["placeholders"], queryFn: () => ok(api.GET("/api/placeholders")) }).data ?? [];
  const [ownText, setOwnText] = useState(d.text.trim() !== "");
  const textArea = useRef<HTMLTextAreaElement>(null);
  const put = (source: string) => {
    const el = area.current;
    const [from, to] = el ? [el.selectionStart, el.selectionEnd] : [d.html.length, d.html.length];
    setD({ ...d, html: `${d.html.slice(0, from)}${source}\n${d.html.slice(to)}` });
  };
  const selected = () => d.html.slice(area.current?.selectionStart ?? 0, area.current?.selectionEnd ?? 0);
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
        area={area}
      />
      <Pieces d={d} put={put} selected={selected} />
      <div style={{ marginTop: 8 }}>
        {ownText ? (
          <>
            <SourceArea
              label="Text"
              rows={8}
              value={d.text}
              onChange={(text) => setD({ ...d, text })}
              names={names}
              area={textArea}
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

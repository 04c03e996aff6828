import { Button, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok } from "../../api/client";
import { percent } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure } from "../../shared/states";

/** The links by the place they stand in, with names that can be changed. */
export function Links({ id, people }: { id: number; people: number }) {
  const [drawn, setDrawn] = useState(false);
  const [editing, setEditing] = useState<{ position: number; name: string } | null>(null);
  const links = useQuery({
    queryKey: ["links", id],
    queryFn: () => ok(api.GET("/api/mailings/{id}/links", { params: { path: { id } } })),
  });
  const rename = useMutation({
    mutationFn: () =>
      ok(
        api.PUT("/api/mailings/{id}/links/{position}", {
          params: { path: { id, position: editing!.position } },
          body: { name: editing!.name },
        }),
      ),
    onSuccess: async () => {
      setEditing(null);
    },
  });
  const all = links.data ?? [];
  if (all.length === 0) return null;
  return (
    <>
      <h2>Links, by the place they stand in</h2>
      <DataTable
        name="Links"
        param="links_by"
        rows={all}
        id={(l) => l.position}
        dense
        columns={(col) => [
          col.shown(
            "Name",
            (l) => l.name,
            (l) => (
              <>
                {editing?.position === l.position ? (
                  <span style={{ display: "flex", gap: 8 }}>
                    <TextField
                      label="Counted as"
                      value={editing.name}
                      onChange={(e) => setEditing({ ...editing, name: e.target.value })}
                    />
                    <Button variant="outlined" onClick={() => rename.mutate()}>
                      Keep
                    </Button>
                  </span>
                ) : (
                  <>
                    {l.name}{" "}
                    <button
                      className="plain small"
                      aria-label={`Rename the link ${l.name}`}
                      onClick={() => setEditing({ position: l.position, name: l.name })}
                    >
                      rename
                    </button>
                  </>
                )}
              </>
            ),
          ),
          col.text("Leads to", (l) => l.url),
          col.number("People", (l) => l.people),
          col.text("Share", (l) => (people > 0 ? percent(l.people / people, 2) : "–")),
          col.number("Clicks", (l) => l.clicks),
          col.number("Machines alone", (l) => l.machine),
        ]}
      />
      <Failure error={rename.error} />
      <p className="soft small">
        Shares are of the messages accepted. Machines alone: only a machine followed it in that message.{" "}
        <button className="plain" onClick={() => setDrawn(!drawn)} aria-expanded={drawn}>
          {drawn ? "Hide the message" : "Draw the counts on the message"}
        </button>
      </p>
      {drawn && (
        <iframe
          title="The message with the count of people at each link"
          sandbox=""
          src={`/api/mailings/${id}/drawn`}
          style={{ width: "100%", height: 460, border: "1px solid var(--rule)", background: "#fff" }}
        />
      )}
    </>
  );
}

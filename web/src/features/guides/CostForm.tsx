import { Button, TextField } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { Failure } from "../../shared/states";

type Costs = Schemas["Costs"];

export function CostForm({ costs }: { costs: Costs }) {
  const share = (f: number | null | undefined) => (f == null ? "" : String(f * 100));
  const [d, setD] = useState({
    open: String(costs.open),
    click: String(costs.click),
    complaint: String(costs.complaint),
    withdrawal: String(costs.withdrawal),
    bounce: String(costs.bounce),
    floor_overall: share(costs.floor_overall),
    floor_ring: share(costs.floor_ring),
  });
  const save = useMutation({
    mutationFn: () => {
      const floor = (t: string) => (t.trim() === "" ? null : Number(t) / 100);
      return ok(
        api.PUT("/api/recency", {
          body: {
            open: Number(d.open),
            click: Number(d.click),
            complaint: Number(d.complaint),
            withdrawal: Number(d.withdrawal),
            bounce: Number(d.bounce),
            floor_overall: floor(d.floor_overall),
            floor_ring: floor(d.floor_ring),
          },
        }),
      );
    },
  });
  const box = (key: keyof typeof d, label: string) => (
    <TextField
      label={label}
      value={d[key]}
      onChange={(e) => setD({ ...d, [key]: e.target.value })}
      slotProps={{ htmlInput: { inputMode: "decimal" } }}
    />
  );
  return (
    <>
      <h2>What an answer is worth, and what a loss costs</h2>
      <div
        className="fields"
        style={{ display: "grid", gridTemplateColumns: "repeat(4, 1fr)", gap: 12, maxWidth: 820 }}
      >
        {box("open", "A human open")}
        {box("click", "A human click")}
        {box("complaint", "A complaint")}
        {box("withdrawal", "A withdrawal")}
        {box("bounce", "A bounce")}
        {box("floor_overall", "Opens overall, at least %")}
        {box("floor_ring", "Opens of a ring, at least %")}
      </div>
      <Failure error={save.error} />
      <div className="acts">
        <Button variant="outlined" disabled={save.isPending} onClick={() => save.mutate()}>
          Reckon with these
        </Button>
      </div>
    </>
  );
}

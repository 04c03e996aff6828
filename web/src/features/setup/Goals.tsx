import { Button, MenuItem, Table, TableBody, TableCell, TableRow, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Attribution } from "./Attribution";
import { Failure } from "../../shared/states";
import { useVocabulary } from "../../shared/useVocabulary";

/** What counts as a conversion: in segments, and for the holdout. */
export function Goals() {
  const goals = useQuery(queries.goals);
  const vocabulary = useVocabulary().data;
  const [name, setName] = useState("");
  const [what, setWhat] = useState("any");
  const [currency, setCurrency] = useState("");
  const [worth, setWorth] = useState("");
  const event = what.startsWith("e:");
  const goal: Schemas["Goal"] = {
    what: event
      ? { kind: "event", name: what.slice(2), cents: Math.round(Number(worth || 0) * 100) }
      : {
          kind: "purchase",
          product: what.startsWith("p:") ? what.slice(2) : null,
          category: what.startsWith("c:") ? what.slice(2) : null,
        },
    currency,
  };
  const save = useMutation({
    mutationFn: () => ok(api.POST("/api/goals", { body: { id: null, name, goal } })),
    onSuccess: () => {
      setName("");
      setWorth("");
    },
  });
  const remove = useMutation({
    mutationFn: (id: number) => ok(api.DELETE("/api/goals/{id}", { params: { path: { id } } })),
  });
  return (
    <>
      <h2>Goals</h2>
      <p className="soft" style={{ marginTop: 0 }}>
        A purchase, or an event by its name. Segments and the holdout count by them.
      </p>
      {(goals.data ?? []).length > 0 && (
        <Table sx={{ maxWidth: 720 }}>
          <TableBody>
            {goals.data?.map((g) => (
              <TableRow key={g.id}>
                <TableCell>{g.name}</TableCell>
                <TableCell className="soft">{g.words}</TableCell>
                <TableCell className="num">
                  <button className="plain bad" onClick={() => remove.mutate(g.id)}>
                    Delete<span className="away"> {g.name}</span>
                  </button>
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      <div className="fields" style={{ maxWidth: 720 }}>
        <div className="two">
          <TextField label="A new goal’s name" value={name} onChange={(e) => setName(e.target.value)} />
          <TextField select label="Met when somebody" value={what} onChange={(e) => setWhat(e.target.value)}>
            <MenuItem value="any">buys anything</MenuItem>
            {vocabulary?.products.map((p) => (
              <MenuItem key={`p:${p}`} value={`p:${p}`}>
                buys {p}
              </MenuItem>
            ))}
            {vocabulary?.categories.map((c) => (
              <MenuItem key={`c:${c}`} value={`c:${c}`}>
                buys anything of {c}
              </MenuItem>
            ))}
            {vocabulary?.events.map((e) => (
              <MenuItem key={`e:${e}`} value={`e:${e}`}>
                “{e}” happens
              </MenuItem>
            ))}
          </TextField>
          <TextField
            label="Currency"
            value={currency}
            helperText="Three letters; none: conversions are counted, not their value"
            onChange={(e) => setCurrency(e.target.value.toUpperCase())}
          />
          {event && (
            <TextField
              label="Worth each"
              value={worth}
              onChange={(e) => setWorth(e.target.value)}
              slotProps={{ htmlInput: { inputMode: "decimal" } }}
            />
          )}
        </div>
      </div>
      <Failure error={save.error ?? remove.error} />
      <div className="acts">
        <Button variant="outlined" disabled={!name.trim() || save.isPending} onClick={() => save.mutate()}>
          Make the goal
        </Button>
      </div>
      <Attribution />
    </>
  );
}

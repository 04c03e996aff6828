import type { Schemas } from "../../api/client";
import { MenuItem, Switch, TableCell, TableRow, TextField } from "@mui/material";
import { type Cap, lengthOf, scopeKey, scopeOf, whole, windowOf, WINDOWS } from "./rulesForm";

type View = Schemas["RulesView"];

export function CapRow({
  cap,
  view,
  change,
  remove,
}: {
  cap: Cap;
  view: View;
  change: (c: Cap) => void;
  remove: () => void;
}) {
  const n = lengthOf(cap.window);
  const counted = cap.window.kind === "hours" || cap.window.kind === "days";
  return (
    <TableRow>
      <TableCell sx={{ width: 90 }}>
        <TextField
          value={cap.limit}
          onChange={(e) => change({ ...cap, limit: whole(e.target.value) })}
          slotProps={{ htmlInput: { inputMode: "numeric", "aria-label": "Messages at most" } }}
        />
      </TableCell>
      <TableCell sx={{ width: 210 }}>
        <TextField
          select
          value={cap.window.kind}
          onChange={(e) => change({ ...cap, window: windowOf(e.target.value as Cap["window"]["kind"], n ?? 1) })}
          slotProps={{ htmlInput: { "aria-label": "In" } }}
        >
          {WINDOWS.map((w) => (
            <MenuItem key={w.kind} value={w.kind}>
              {w.words}
            </MenuItem>
          ))}
        </TextField>
      </TableCell>
      <TableCell sx={{ width: 80 }}>
        {counted && (
          <TextField
            value={n}
            onChange={(e) => change({ ...cap, window: windowOf(cap.window.kind, whole(e.target.value)) })}
            slotProps={{ htmlInput: { inputMode: "numeric", "aria-label": "How many" } }}
          />
        )}
      </TableCell>
      <TableCell>
        <TextField
          select
          value={scopeKey(cap.scope)}
          onChange={(e) => change({ ...cap, scope: scopeOf(e.target.value) })}
          slotProps={{ htmlInput: { "aria-label": "Counted" } }}
        >
          <MenuItem value="marketing">all marketing</MenuItem>
          <MenuItem value="channel 1">email</MenuItem>
          <MenuItem value="channel 2">text messages</MenuItem>
          <MenuItem value="series">messages of series</MenuItem>
          {view.topics.map((t) => (
            <MenuItem key={`t${t.id}`} value={`topic ${t.id}`}>
              topic {t.name}
            </MenuItem>
          ))}
          {view.letterheads.map((l) => (
            <MenuItem key={`l${l.id}`} value={`letterhead ${l.id}`}>
              letterhead {l.name}
            </MenuItem>
          ))}
        </TextField>
      </TableCell>
      <TableCell sx={{ width: 150 }} className={cap.in_force ? "" : "bad"}>
        <label style={{ whiteSpace: "nowrap" }}>
          <Switch
            size="small"
            checked={cap.in_force}
            onChange={(e) => change({ ...cap, in_force: e.target.checked })}
          />{" "}
          {cap.in_force ? "in force" : "not in force"}
        </label>
      </TableCell>
      <TableCell className="num">
        <button className="plain" onClick={remove}>
          Take out
        </button>
      </TableCell>
    </TableRow>
  );
}

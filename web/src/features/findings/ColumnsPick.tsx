import { Checkbox, Menu, MenuItem } from "@mui/material";
import { useState } from "react";
import type { Schemas } from "../../api/client";
import { plural } from "../../shared/format";

type Definition = Schemas["FigureDefinition"];

/** Which figures of the catalogue stand as columns; they keep the catalogue's order. */
export function ColumnsPick({
  catalogue,
  chosen,
  onChange,
}: {
  catalogue: Definition[];
  chosen: Definition[];
  onChange: (keys: string[]) => void;
}) {
  const [at, setAt] = useState<HTMLElement | null>(null);
  const keys = chosen.map((d) => d.key);
  const press = (d: Definition) => onChange(keys.includes(d.key) ? keys.filter((k) => k !== d.key) : [...keys, d.key]);
  return (
    <>
      <button className="plain" aria-haspopup="menu" onClick={(e) => setAt(e.currentTarget)}>
        {plural(chosen.length, "figure")} as columns
      </button>
      <Menu open={at != null} anchorEl={at} onClose={() => setAt(null)}>
        {catalogue
          .filter((d) => d.of)
          .map((d) => (
            <MenuItem
              key={d.key}
              dense
              role="menuitemcheckbox"
              aria-checked={keys.includes(d.key)}
              disabled={keys.length === 1 && keys[0] === d.key}
              onClick={() => press(d)}
            >
              <Checkbox
                size="small"
                checked={keys.includes(d.key)}
                tabIndex={-1}
                disableRipple
                slotProps={{ input: { "aria-hidden": true } }}
              />
              {d.name}
            </MenuItem>
          ))}
      </Menu>
    </>
  );
}

import { MenuItem, TextField } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { queries } from "../api/queries";

/** To which legal entity somebody agreed; not asked where there is only one. */
export function EntityPick(p: { value: string; onChange: (entity: string) => void; disabled?: boolean }) {
  const letterheads = useQuery(queries.letterheads);
  const others = [...new Set(letterheads.data?.map((l) => l.entity ?? "").filter(Boolean))].sort();
  if (others.length === 0) return null;
  const first = letterheads.data?.find((l) => !l.entity)?.name;
  return (
    <TextField
      select
      label="They agreed with"
      value={p.value}
      disabled={p.disabled}
      onChange={(e) => p.onChange(e.target.value)}
      helperText="Legal entities keep separate consent."
    >
      <MenuItem value="">{first ? `everybody who writes as ${first}` : "the first legal entity"}</MenuItem>
      {others.map((e) => (
        <MenuItem key={e} value={e}>
          {e}
        </MenuItem>
      ))}
    </TextField>
  );
}

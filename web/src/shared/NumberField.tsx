import { TextField } from "@mui/material";

/** A number of a form: told as it is typed, and not while nothing stands there. */
export function NumberField({
  label,
  value,
  set,
  help,
}: {
  label: string;
  value: number;
  set: (n: number) => void;
  help?: string;
}) {
  return (
    <TextField
      label={label}
      type="number"
      defaultValue={value}
      helperText={help}
      onChange={(e) => e.target.value !== "" && set(Number(e.target.value))}
      slotProps={{ htmlInput: { step: "any" } }}
    />
  );
}

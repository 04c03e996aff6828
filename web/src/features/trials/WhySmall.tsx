import { TextField } from "@mui/material";

/** A plan under its needed size is sealed by an approver's word. */
export function WhySmall({ why, setWhy }: { why: string; setWhy: (why: string) => void }) {
  return (
    <div className="fields">
      <TextField
        label="Why it may go out too small"
        value={why}
        onChange={(e) => setWhy(e.target.value)}
        helperText="It is under its needed size: an approver says why it is sealed all the same."
      />
    </div>
  );
}

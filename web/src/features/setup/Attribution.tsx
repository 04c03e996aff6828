import { MenuItem, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Failure } from "../../shared/states";

/** Which click a conversion is put down to in reports. */
export function Attribution() {
  const rule = useQuery(queries.attribution);
  const save = useMutation({
    mutationFn: (body: Schemas["AttributionRule"]) => ok(api.POST("/api/attribution", { body })),
  });
  if (!rule.data) return null;
  const r = rule.data;
  return (
    <>
      <h3>What a conversion is put down to</h3>
      <div className="fields" style={{ maxWidth: 720 }}>
        <div className="two">
          <TextField
            select
            label="In reports, it is put down to"
            value={r.by}
            onChange={(e) => save.mutate({ ...r, by: e.target.value as typeof r.by })}
          >
            <MenuItem value="last_click">the last human click before it</MenuItem>
            <MenuItem value="first_click">the first human click before it</MenuItem>
          </TextField>
          <TextField
            select
            label="A click counts for"
            value={String(r.days)}
            onChange={(e) => save.mutate({ ...r, days: Number(e.target.value) })}
          >
            {[...new Set([1, 3, 7, 14, 30, 90, r.days])]
              .sort((a, b) => a - b)
              .map((d) => (
                <MenuItem key={d} value={String(d)}>
                  {d === 1 ? "1 day" : `${d} days`}
                </MenuItem>
              ))}
          </TextField>
        </div>
      </div>
      <p className="soft small">
        Trials don’t attribute: they count what the people assigned did, whatever they clicked.
      </p>
      <Failure error={save.error} />
    </>
  );
}

import { MenuItem, TextField } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { useMailingSlips } from "./useMailingSlips";

const PARTS: Record<string, string> = { subjects: "Subjects", preheader: "Preheader", html: "Body", text: "Text" };

/** Two mailings' sources side by side, line beside line. */
export function ComparePage() {
  const { slips, mailings } = useMailingSlips();
  const [search, setSearch] = useSearchParams();
  const [left, right] = [Number(search.get("left") ?? 0), Number(search.get("right") ?? 0)];
  const both = left > 0 && right > 0;
  const beside = useQuery({
    queryKey: ["beside", left, right],
    queryFn: () => ok(api.GET("/api/mailings/{id}/beside/{other}", { params: { path: { id: left, other: right } } })),
    enabled: both,
  });
  const pick = (label: string, key: "left" | "right", value: number) => (
    <TextField
      select
      label={label}
      value={value || ""}
      onChange={(e) => {
        const p = new URLSearchParams(search);
        p.set(key, e.target.value);
        setSearch(p, { replace: true });
      }}
    >
      {(mailings.data ?? []).map((m) => (
        <MenuItem key={m.id} value={m.id}>
          {m.name}
        </MenuItem>
      ))}
    </TextField>
  );
  return (
    <Frame slips={slips}>
      <div className="crumb">
        <span>Compare</span>
      </div>
      <h1>Two messages side by side</h1>
      <div className="two" style={{ margin: "10px 0 16px" }}>
        {pick("Left", "left", left)}
        {pick("Right", "right", right)}
      </div>
      {!both && <p className="soft">Choose two mailings: their subjects and sources stand beside each other.</p>}
      {both && (
        <Loaded query={beside}>
          {(parts) => {
            const differing = parts.reduce((n, p) => n + p.lines.filter((l) => !l.same).length, 0);
            return (
              <>
                <p className="finding">
                  {differing === 0 ? (
                    "They say the same, letter by letter."
                  ) : (
                    <>
                      <em>{plural(differing, "line differs", "lines differ")}</em>.
                    </>
                  )}
                </p>
                {parts
                  .filter((p) => p.lines.length > 0)
                  .map((p) => (
                    <div key={p.part}>
                      <h2>{PARTS[p.part]}</h2>
                      <table style={{ width: "100%", borderCollapse: "collapse", tableLayout: "fixed" }}>
                        <tbody>
                          {p.lines.map((l, i) => (
                            <tr key={i}>
                              {[l.left, l.right].map((text, side) => (
                                <td
                                  key={side}
                                  className="small"
                                  style={{
                                    verticalAlign: "top",
                                    padding: "1px 10px 1px 6px",
                                    whiteSpace: "pre-wrap",
                                    overflowWrap: "anywhere",
                                    fontFamily: "monospace",
                                    background: l.same || text == null ? undefined : "var(--deep-wash)",
                                    borderLeft: l.same ? "3px solid transparent" : "3px solid var(--deep)",
                                  }}
                                >
                                  {text ?? ""}
                                </td>
                              ))}
                            </tr>
                          ))}
                        </tbody>
                      </table>
                    </div>
                  ))}
              </>
            );
          }}
        </Loaded>
      )}
    </Frame>
  );
}

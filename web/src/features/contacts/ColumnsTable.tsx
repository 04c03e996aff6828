import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import type { Schemas } from "../../api/client";
import { words } from "../../shared/format";
import { useVocabulary } from "../../shared/useVocabulary";
import { choices, type Field, fieldOf, keyOf, SCORE, scoreKey } from "./columnField";

const FIELDS = [
  "address",
  "given_name",
  "family_name",
  "phone",
  "country",
  "region",
  "time_zone",
  "source",
  "latitude",
  "longitude",
] as const;
const SCORE_PARTS = ["score_date", "score_source"] as const;

type Mapping = Schemas["Run"]["mapping"];
type Props = { preview: Schemas["Preview"]; mapping: Mapping; setMapping: (m: Mapping) => void; open: boolean };

/** The first rows as they would land, under what each column is. */
export function ColumnsTable({ preview: { columns, kinds, rows, refusals }, mapping, setMapping, open }: Props) {
  const own = useVocabulary().data?.fields ?? [];
  const map = (i: number, key: string) =>
    setMapping(
      columns.map((_, j): Field | null =>
        j === i ? fieldOf(key) : keyOf(mapping[j]) === key ? null : (mapping[j] ?? null),
      ),
    );
  return (
    <div className="scroll" hidden={rows.length === 0} tabIndex={0} role="region" aria-label="Preview">
      <Table stickyHeader>
        <TableHead>
          <TableRow>
            {columns.map((c, i) => (
              <TableCell key={i}>
                {c}
                <br />
                <select
                  className="bare"
                  aria-label={`Column ${c} is`}
                  disabled={!open}
                  value={keyOf(mapping[i])}
                  onChange={(e) => map(i, e.target.value)}
                >
                  <option value="">left out</option>
                  {FIELDS.map((f) => (
                    <option key={f} value={f}>
                      {words(f)}
                    </option>
                  ))}
                  <optgroup label="A score from elsewhere">
                    <option value={scoreKey(c, mapping[i])}>
                      score “{scoreKey(c, mapping[i]).slice(SCORE.length)}”
                    </option>
                    {SCORE_PARTS.map((f) => (
                      <option key={f} value={f}>
                        {words(f)}
                      </option>
                    ))}
                  </optgroup>
                  <optgroup label="Fields of your own">
                    {choices(own, c, kinds[i] ?? "text", mapping[i]).map((c) => (
                      <option key={c.key} value={c.key}>
                        {c.label}, {words(c.kind)}
                      </option>
                    ))}
                  </optgroup>
                </select>
              </TableCell>
            ))}
            <TableCell>Refused because</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {rows.map((r, i) => (
            <TableRow key={i}>
              {Array.from({ length: columns.length }, (_, j) => (
                <TableCell key={j} className={mapping[j] ? "" : "soft"}>
                  {r[j]}
                </TableCell>
              ))}
              <TableCell className="bad">{refusals[i]}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </div>
  );
}

import type { Schemas } from "../../api/client";
import { words } from "../../shared/format";
import { PreviewTable } from "../../shared/table/PreviewTable";
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
    <PreviewTable
      columns={columns}
      rows={rows}
      refusals={refusals}
      taken={(i) => !!mapping[i]}
      open={open}
      value={(i) => keyOf(mapping[i])}
      choose={map}
      options={(i, c) => (
        <>
          {FIELDS.map((f) => (
            <option key={f} value={f}>
              {words(f)}
            </option>
          ))}
          <optgroup label="A score from elsewhere">
            <option value={scoreKey(c, mapping[i])}>score “{scoreKey(c, mapping[i]).slice(SCORE.length)}”</option>
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
        </>
      )}
    />
  );
}

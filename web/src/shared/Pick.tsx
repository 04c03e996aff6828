import { useQuery } from "@tanstack/react-query";
import { api, ok } from "../api/client";

/** One of a few, within a sentence. */
export function Pick<T extends string | number>({
  label,
  value,
  options,
  onChange,
}: {
  label: string;
  value: T;
  options: readonly (readonly [T, string])[];
  onChange: (next: T) => void;
}) {
  return (
    <select
      className="bare"
      aria-label={label}
      value={value}
      onChange={(e) => onChange(options.find(([v]) => String(v) === e.target.value)![0])}
    >
      {options.map(([v, words]) => (
        <option key={v} value={v}>
          {words}
        </option>
      ))}
    </select>
  );
}

/** Any link of a mailing, or one by its name. */
export function LinkOf({
  mailing,
  value,
  onChange,
}: {
  mailing: number;
  value: number | null;
  onChange: (next: number | null) => void;
}) {
  const links = useQuery({
    queryKey: ["links", mailing],
    queryFn: () => ok(api.GET("/api/mailings/{id}/links", { params: { path: { id: mailing } } })),
  });
  return (
    <Pick
      label="Link"
      value={value ?? -1}
      options={[
        [-1, "any link"],
        ...(links.data ?? []).map((l) => [l.position, `the link “${l.name}”`] as const),
        ...(value != null && !links.data ? [[value, `link ${value + 1}`] as const] : []),
      ]}
      onChange={(l) => onChange(l < 0 ? null : l)}
    />
  );
}

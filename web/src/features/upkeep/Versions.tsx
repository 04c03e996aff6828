import type { ReactNode } from "react";
import { DataTable } from "../../shared/table/DataTable";
import type { Column } from "../../shared/table/columns";

type Version = { id: number; at: number; person?: string | null; note: string };

/** The versions of what is never changed, the newest first; another one can be taken up again. */
export function Versions<V extends Version>({
  of,
  versions,
  current,
  also = [],
  back,
}: {
  of: string;
  versions: V[];
  current: number;
  also?: Column<V>[];
  back: (version: V) => ReactNode;
}) {
  return (
    <>
      <h2>Versions</h2>
      <DataTable
        name={`Versions of the ${of}`}
        rows={versions}
        id={(v) => v.id}
        columns={(col) => [
          col.number("Version", (v) => v.id),
          col.when("Since", (v) => (v.at > 0 ? v.at : null), "the beginning"),
          col.text("Who", (v) => v.person ?? "–"),
          col.text("Why", (v) => v.note),
          ...also,
          col.acts((v) => (v.id === current ? <span className="soft">in force</span> : back(v))),
        ]}
      />
    </>
  );
}

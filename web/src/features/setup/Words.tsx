import { Button, Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { queryOptions, useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { count, plural, words } from "../../shared/format";
import { Failure } from "../../shared/states";
import { useWorking } from "../../shared/working";

type Word = Schemas["Word"];
type Row = { id: number; name: string; people: number; kind?: string };

/** Lists, tags, labels and custom fields, with how many each holds. */
export const counted = queryOptions({ queryKey: ["words"], queryFn: () => ok(api.GET("/api/words")) });

/** Words of one kind: made, renamed, merged, deleted, with what depends on them. */
export function Words({ word, title, help, rows }: { word: Word; title: string; help: string; rows: Row[] }) {
  const [name, setName] = useState("");
  const [kind, setKind] = useState<Schemas["FieldKind"]>("text");
  const make = useMutation({
    mutationFn: () =>
      word === "field"
        ? ok(api.POST("/api/fields", { body: { name, kind } }))
        : ok(api.POST("/api/words", { body: { word, name } })),
    onSuccess: () => {
      setName("");
    },
  });
  return (
    <>
      <h2>{title}</h2>
      <p className="soft small">{help}</p>
      {rows.length > 0 && (
        <Table>
          <TableHead>
            <TableRow>
              <TableCell>Name</TableCell>
              {word === "field" && <TableCell>Holds</TableCell>}
              <TableCell className="num">{word === "label" ? "Mailings" : "People"}</TableCell>
              <TableCell />
            </TableRow>
          </TableHead>
          <TableBody>
            {rows.map((r) => (
              <Line key={r.id} word={word} row={r} others={rows.filter((o) => o.id !== r.id)} />
            ))}
          </TableBody>
        </Table>
      )}
      <div className="acts">
        <input
          className="bare"
          aria-label={`Name of a new ${word}`}
          placeholder={`a new ${word}`}
          value={name}
          onChange={(e) => setName(e.target.value)}
          onKeyDown={(e) => e.key === "Enter" && name.trim() && make.mutate()}
        />
        {word === "field" && (
          <select
            className="bare"
            aria-label="It holds"
            value={kind}
            onChange={(e) => setKind(e.target.value as Schemas["FieldKind"])}
          >
            {(["text", "number", "date", "yes_no", "choice"] as const).map((k) => (
              <option key={k} value={k}>
                {words(k)}
              </option>
            ))}
          </select>
        )}
        <Button variant="outlined" disabled={!name.trim() || make.isPending} onClick={() => make.mutate()}>
          Make the {word}
        </Button>
      </div>
      <Failure error={make.error} />
    </>
  );
}

function Line({ word, row, others }: { word: Word; row: Row; others: Row[] }) {
  const { show } = useWorking();
  const [renaming, setRenaming] = useState<string | null>(null);
  const onSuccess = () => {
    setRenaming(null);
    show(null);
  };
  const path = { id: row.id };
  const change = useMutation({
    mutationFn: (body: { name?: string; into?: number }) =>
      ok(
        api.PUT("/api/words/{id}", {
          params: { path },
          body: { word, name: body.name ?? null, into: body.into ?? null },
        }),
      ),
    onSuccess,
  });
  const remove = useMutation({
    mutationFn: () => ok(api.DELETE("/api/words/{word}/{id}", { params: { path: { word, id: row.id } } })),
    onSuccess,
  });
  const ask = useMutation({
    mutationFn: () => ok(api.GET("/api/words/{word}/{id}/used-by", { params: { path: { word, id: row.id } } })),
    onSuccess: (users) =>
      show({
        title: `Delete ${row.name}?`,
        body: users.length ? (
          <p>
            It is used by {users.join(", ")}. Change those first{word === "field" ? "" : ", or merge it"}.
          </p>
        ) : (
          <>
            <p>
              {word === "label"
                ? `${plural(row.people, "mailing")} will lose it. This can't be undone.`
                : word === "field"
                  ? `The values of ${plural(row.people, "person", "people")} go with it. This can't be undone.`
                  : `${plural(row.people, "person", "people")} will not be on it any more; they stay in the base. This can't be undone.`}
            </p>
            <Button variant="outlined" color="error" onClick={() => remove.mutate()}>
              Delete the {word}
            </Button>
          </>
        ),
      }),
  });
  const confirmMerge = (into: Row) =>
    show({
      title: `Merge ${row.name} into ${into.name}?`,
      body: (
        <>
          <p>
            The {word === "label" ? plural(row.people, "mailing") : plural(row.people, "person", "people")} of{" "}
            {row.name} will be on {into.name} as well, everything that uses {row.name} will use {into.name}, and{" "}
            {row.name} is gone. This can't be undone.
          </p>
          <Button variant="outlined" onClick={() => change.mutate({ into: into.id })}>
            Merge them
          </Button>
        </>
      ),
    });
  const target =
    word === "list"
      ? `/contacts?list=${row.id}`
      : word === "tag"
        ? `/contacts?tag=${row.id}`
        : word === "label"
          ? `/mailings?label=${encodeURIComponent(row.name)}`
          : null;
  return (
    <TableRow>
      <TableCell>
        {renaming === null ? (
          target ? (
            <Link to={target}>{row.name}</Link>
          ) : (
            row.name
          )
        ) : (
          <input
            className="bare"
            aria-label={`New name of ${row.name}`}
            autoFocus
            value={renaming}
            onChange={(e) => setRenaming(e.target.value)}
            onKeyDown={(e) => {
              if (e.key === "Enter") change.mutate({ name: renaming });
              if (e.key === "Escape") setRenaming(null);
            }}
          />
        )}
        <Failure error={change.error ?? remove.error ?? ask.error} />
      </TableCell>
      {word === "field" && <TableCell>{words(row.kind ?? "")}</TableCell>}
      <TableCell className="num">{count(row.people)}</TableCell>
      <TableCell className="num">
        {renaming === null ? (
          <button className="plain" onClick={() => setRenaming(row.name)}>
            Rename<span className="away"> {row.name}</span>
          </button>
        ) : (
          <button className="plain" onClick={() => change.mutate({ name: renaming })}>
            Save the name
          </button>
        )}
        {word !== "field" && others.length > 0 && (
          <select
            className="bare"
            aria-label={`Merge ${row.name} into`}
            value=""
            onChange={(e) => {
              const into = others.find((o) => o.id === Number(e.target.value));
              if (into) confirmMerge(into);
            }}
          >
            <option value="">merge into …</option>
            {others.map((o) => (
              <option key={o.id} value={o.id}>
                {o.name}
              </option>
            ))}
          </select>
        )}
        <button className="plain bad" onClick={() => ask.mutate()}>
          Delete<span className="away"> {row.name}</span>
        </button>
      </TableCell>
    </TableRow>
  );
}

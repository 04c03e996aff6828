import { Button, Table, TableBody, TableCell, TableHead, TableRow, TextField } from "@mui/material";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, date, plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { useWorking } from "../../shared/working";
import { PeopleTable } from "../contacts/PeopleTable";
import { useContactSlips } from "../contacts/useContactSlips";
import { rooted, type Tree, type Vocabulary } from "./leaf";
import { PlaceMap } from "./PlaceMap";
import { GroupEditor } from "./TreeEditor";
import { useVocabulary } from "../../shared/useVocabulary";

/** A segment: its sentence, its conditions, its people. */
export function SegmentPage() {
  const { id: given } = useParams();
  const id = given === "new" ? null : Number(given);
  const slips = useContactSlips();
  const vocabulary = useVocabulary();
  const segment = useQuery({
    queryKey: ["segment", id],
    queryFn: () => (id === null ? null : ok(api.GET("/api/segments/{id}", { params: { path: { id } } }))),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={vocabulary}>
        {(v) => (
          <Loaded query={segment}>
            {(s) => <Segment key={`${id}-${s?.segment.changed_at ?? 0}`} stored={s} vocabulary={v} />}
          </Loaded>
        )}
      </Loaded>
    </Frame>
  );
}

function proposed(text: string | null): Tree {
  try {
    return rooted(JSON.parse(text ?? "") as Tree);
  } catch {
    return { kind: "all", of: [] };
  }
}

function Segment({ stored, vocabulary }: { stored: Schemas["SegmentView"] | null; vocabulary: Vocabulary }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const { show } = useWorking();
  const segment = stored?.segment;
  const live = !segment || segment.kept === "live";
  // A page that proposes a segment writes it into the address.
  const [params] = useSearchParams();
  const [name, setName] = useState(segment?.name ?? params.get("name") ?? "");
  const [tree, setTree] = useState<Tree>(() => segment?.tree ?? proposed(params.get("tree")));
  const asked = useDeferredValue<Tree>(live ? tree : { kind: "segment", segment: segment.id });
  const look = useQuery({
    queryKey: ["look", asked],
    queryFn: () => ok(api.POST("/api/segments/look", { body: asked })),
    placeholderData: keepPreviousData,
  });
  const done = (id: number) => {
    void client.invalidateQueries();
    void navigate(`/contacts/segments/${id}`);
  };
  const save = useMutation({
    mutationFn: () =>
      segment
        ? ok(api.PUT("/api/segments/{id}", { params: { path: { id: segment.id } }, body: { name, tree } }))
        : ok(api.POST("/api/segments", { body: { name, tree } })),
    onSuccess: done,
  });
  const copy = useMutation({
    mutationFn: () => ok(api.POST("/api/segments", { body: { name: `${name}, copy`, tree } })),
    onSuccess: done,
  });
  const freeze = useMutation({
    mutationFn: () =>
      ok(
        api.POST("/api/segments/{id}/freeze", {
          params: { path: { id: segment!.id } },
          body: { name: `${segment!.name}, frozen` },
        }),
      ),
    onSuccess: done,
  });
  const remove = useMutation({
    mutationFn: () => ok(api.DELETE("/api/segments/{id}", { params: { path: { id: segment!.id } } })),
    onSuccess: () => {
      void client.invalidateQueries();
      void navigate("/contacts/segments");
    },
  });
  const changed = !segment || name !== segment.name || JSON.stringify(tree) !== JSON.stringify(segment.tree);
  return (
    <>
      <div className="crumb">
        <Link to="/contacts/segments">Segments</Link>
        {segment && (
          <span>
            {segment.kept}, {segment.kept === "live" ? "changed" : segment.kept === "frozen" ? "frozen" : "replaced"}{" "}
            {date(segment.changed_at)}
            {segment.person ? `, ${segment.person}` : ""}
          </span>
        )}
      </div>
      <h1>{segment?.name ?? "New segment"}</h1>
      {look.error ? (
        <p className="finding bad" role="alert">
          {look.error.message}
        </p>
      ) : (
        <p className="finding" data-testid="segment-finding" aria-live="polite">
          {look.data ? (
            <>
              <em>{count(look.data.people)}</em> of {plural(look.data.all, "person", "people")}:{" "}
              {live ? look.data.sentence : segment.sentence}.
            </>
          ) : (
            "Counting …"
          )}
        </p>
      )}
      {live && (
        <>
          <GroupEditor group={rooted(tree)} vocabulary={vocabulary} onChange={setTree} />
          <p className="soft small">
            A condition on a missing value is neither met nor not met: ask for “a value is missing” to reach those
            people.
          </p>
          <div className="fields" style={{ maxWidth: 420 }}>
            <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} />
          </div>
        </>
      )}
      <Failure error={save.error ?? copy.error ?? freeze.error ?? remove.error} />
      <div className="acts">
        {live && (
          <Button
            variant="contained"
            disabled={!changed || !name.trim() || !!look.error || save.isPending}
            onClick={() => save.mutate()}
          >
            {segment ? "Save the change" : "Save the segment"}
          </Button>
        )}
        {segment && (
          <>
            <Button variant="outlined" component={Link} to={`/contacts?segment=${segment.id}`}>
              See the people
            </Button>
            <Button variant="outlined" href={`/api/segments/${segment.id}/people.csv`}>
              People as CSV
            </Button>
            {live && (
              <>
                <Button variant="text" onClick={() => copy.mutate()}>
                  Copy
                </Button>
                <Button variant="text" disabled={!look.data?.people} onClick={() => freeze.mutate()}>
                  Freeze its {count(look.data?.people ?? 0)}
                </Button>
              </>
            )}
            <Button
              variant="text"
              color="error"
              onClick={() =>
                show({
                  title: `Delete ${segment.name}?`,
                  body: stored.used_by.length ? (
                    <p>It is used by {stored.used_by.join(", ")}. Change those first.</p>
                  ) : (
                    <>
                      <p>Its people stay in the base. The segment itself can't be brought back.</p>
                      <Button variant="outlined" color="error" onClick={() => remove.mutate()}>
                        Delete the segment
                      </Button>
                    </>
                  ),
                })
              }
            >
              Delete
            </Button>
          </>
        )}
      </div>
      {stored && stored.used_by.length > 0 && <p className="soft small">Used by {stored.used_by.join(", ")}.</p>}
      {look.data && !look.error && <PlaceMap tree={tree} people={look.data.points} />}
      {look.data && look.data.people > 0 && !look.error && (
        <>
          <Split tree={asked} fields={vocabulary.fields} people={look.data.people} />
          <Why tree={asked} sample={look.data.sample} />
        </>
      )}
    </>
  );
}

/** Parts that add up: every value of a field, and those who lack one. */
function Split({ tree, fields, people }: { tree: Tree; fields: Vocabulary["fields"]; people: number }) {
  const [by, setBy] = useState("");
  const field = (/^\d+$/.test(by) ? { own: Number(by) } : by) as Schemas["Field"];
  const split = useQuery({
    queryKey: ["split", tree, by],
    queryFn: () => ok(api.POST("/api/segments/split", { body: { tree, field } })),
    enabled: by !== "",
  });
  const parts = split.data ?? [];
  const shown = parts.slice(0, 12);
  const rest = parts.slice(12).reduce((n, p) => n + p.people, 0);
  return (
    <>
      <h2>
        <label>
          Split by{" "}
          <select className="bare" value={by} onChange={(e) => setBy(e.target.value)}>
            <option value="">nothing</option>
            {(["country", "region", "time_zone", "source", "position"] as const).map((f) => (
              <option key={f} value={f}>
                {f === "position" ? "home place known" : f.replace("_", " ")}
              </option>
            ))}
            {fields.map((f) => (
              <option key={f.id} value={f.id}>
                {f.name}
              </option>
            ))}
          </select>
        </label>
      </h2>
      {by !== "" && split.data && (
        <Table sx={{ maxWidth: 560 }}>
          <TableBody>
            {[...shown, ...(rest ? [{ value: `${count(parts.length - 12)} more values`, people: rest }] : [])].map(
              (p) => (
                <TableRow key={p.value ?? ""}>
                  <TableCell className={p.value == null ? "soft" : ""}>{p.value ?? "missing"}</TableCell>
                  <TableCell className="num">{count(p.people)}</TableCell>
                  <TableCell sx={{ width: 240 }}>
                    <svg width="220" height="10" aria-hidden="true">
                      <rect width={(220 * p.people) / Math.max(1, people)} height="10" fill="var(--deep)" />
                    </svg>
                  </TableCell>
                </TableRow>
              ),
            )}
            <TableRow>
              <TableCell>Together</TableCell>
              <TableCell className="num">{count(parts.reduce((n, p) => n + p.people, 0))}</TableCell>
              <TableCell />
            </TableRow>
          </TableBody>
        </Table>
      )}
    </>
  );
}

/** Some of the people; "why" opens their answers in the working. */
function Why({ tree, sample }: { tree: Tree; sample: Schemas["ContactRow"][] }) {
  const { show } = useWorking();
  const [address, setAddress] = useState("");
  const explain = useMutation({
    mutationFn: async (who: { id: number; address: string } | string) => {
      let person = typeof who === "string" ? undefined : who;
      if (!person) {
        const found = await ok(api.GET("/api/contacts", { params: { query: { search: who as string } } }));
        person = found.rows[0];
      }
      if (!person) throw new Error(`Nobody's address or name begins with “${who as string}”.`);
      const lines = await ok(
        api.POST("/api/segments/explain/{contact}", { params: { path: { contact: person.id } }, body: tree }),
      );
      return { person, lines };
    },
    onSuccess: ({ person, lines }) =>
      show({ title: person.address, body: <Answers lines={lines} id={person.id} address={person.address} /> }),
  });
  return (
    <>
      <h2>
        Why is{" "}
        <input
          className="bare"
          aria-label="Whose answers"
          placeholder="an address or a name"
          value={address}
          onChange={(e) => setAddress(e.target.value)}
          onKeyDown={(e) => e.key === "Enter" && explain.mutate(address)}
        />{" "}
        in it, or not?{" "}
        <button className="plain" disabled={!address.trim()} onClick={() => explain.mutate(address)}>
          Ask
        </button>
      </h2>
      <Failure error={explain.error} />
      <PeopleTable rows={sample} onWhy={(r) => explain.mutate(r)} />
    </>
  );
}

const ANSWER = { true: "yes", false: "no", null: "unknown" } as const;

function Answers({ lines, id, address }: { lines: Schemas["Explained"][]; id: number; address: string }) {
  const word = (a: boolean | null | undefined) => ANSWER[String(a ?? null) as keyof typeof ANSWER];
  return (
    <>
      <p>
        {lines[0]?.answer === true ? "In it." : "Not in it."} <Link to={`/contacts/${id}`}>{address}</Link>
      </p>
      <Table size="small">
        <TableHead>
          <TableRow>
            <TableCell>Condition</TableCell>
            <TableCell>Answer</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {lines.map((l, i) => (
            <TableRow key={i}>
              <TableCell sx={{ pl: `${4 + l.depth * 12}px !important` }}>
                {l.words}
                {l.value && (
                  <>
                    <br />
                    <span className="soft small">{l.value}</span>
                  </>
                )}
              </TableCell>
              <TableCell className={l.answer === true ? "" : l.answer === false ? "bad" : "wait"}>
                {word(l.answer)}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </>
  );
}

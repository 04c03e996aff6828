import { Button, TextField } from "@mui/material";
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, date, plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { useWorking } from "../../shared/working";
import { useContactSlips } from "../contacts/useContactSlips";
import { rooted, type Tree, type Vocabulary } from "./leaf";
import { PlaceMap } from "./PlaceMap";
import { GroupEditor } from "./TreeEditor";
import { useVocabulary } from "../../shared/useVocabulary";
import { Why } from "./Why";
import { Split } from "./Split";

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

import { Button } from "@mui/material";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { PutOn } from "./PutOn";
import { PeopleTable } from "./PeopleTable";
import { useContactSlips } from "./useContactSlips";
import { cellWords } from "../../shared/load";
import { useVocabulary } from "../../shared/useVocabulary";

/** The filters as an address carries them; what is not asked for is left out. */
function asked(query: Record<string, string | number | boolean | undefined>): string {
  const p = new URLSearchParams();
  for (const key of ["search", "list", "tag", "segment", "status", "load"])
    if (query[key] !== undefined && query[key] !== "") p.set(key, String(query[key]));
  return p.toString();
}

/** The contact list; its state lives in the address, so that it can be shared and gone back to. */
export function ContactsPage() {
  const [params, setParams] = useSearchParams();
  const slips = useContactSlips();
  const navigate = useNavigate();
  const find = useRef<HTMLInputElement>(null);
  const search = params.get("search") ?? "";
  const list = params.get("list") ? Number(params.get("list")) : undefined;
  const tag = params.get("tag") ? Number(params.get("tag")) : undefined;
  const segment = params.get("segment") ? Number(params.get("segment")) : undefined;
  const status = params.get("status") ? Number(params.get("status")) : undefined;
  const load = params.get("load") ? Number(params.get("load")) : undefined;
  const sort = (params.get("sort") ?? "added_at") as Schemas["Sort"];
  const descending = (params.get("order") ?? "down") === "down";
  const page = Number(params.get("page") ?? "0");
  const query = { search, list, tag, segment, status, load, sort, descending, page };
  const people = useQuery({
    queryKey: ["contacts", query],
    queryFn: () => ok(api.GET("/api/contacts", { params: { query } })),
    placeholderData: keepPreviousData,
  });
  const change = (next: Record<string, string | null>) => {
    const p = new URLSearchParams(params);
    for (const [k, v] of Object.entries({ page: null, find: null, ...next })) {
      if (v === null) p.delete(k);
      else p.set(k, v);
    }
    setParams(p, { replace: true });
  };
  const wanted = params.has("find");
  useEffect(() => {
    if (wanted) find.current?.focus();
  }, [wanted]);
  const vocabulary = useVocabulary(tag !== undefined || segment !== undefined).data;
  const tagName = vocabulary?.tags.find((t) => t.id === tag)?.name;
  const segmentName = vocabulary?.segments.find((t) => t.id === segment)?.name;
  const listName = slips.find((g) => g.title === "Lists")?.slips.find((s) => s.to === `/contacts?list=${list}`)?.title;
  return (
    <Frame slips={slips}>
      <Loaded query={people}>
        {(p) =>
          p.all === 0 ? (
            <>
              <h1>Contacts</h1>
              <p className="finding">Nobody is here yet.</p>
              <p className="soft">
                Bring people in from a CSV file. Nothing is written before you have seen what it will do.
              </p>
              <Button variant="contained" onClick={() => void navigate("/contacts/import")}>
                Import a file
              </Button>
            </>
          ) : (
            <>
              <div className="crumb">
                <span>Contacts</span>
              </div>
              <h1>{listName ?? segmentName ?? tagName ?? "Everyone"}</h1>
              <p className="finding">
                <em>{p.or_more ? `${count(p.matching)} or more` : count(p.matching)}</em>{" "}
                {p.matching === p.all ? (
                  "people are in the base."
                ) : (
                  <>of {plural(p.all, "person", "people")} are shown.</>
                )}
              </p>
              <div className="filters">
                <input
                  ref={find}
                  className="bare"
                  type="search"
                  aria-label="Find"
                  style={{ width: 320, marginRight: 14 }}
                  placeholder="address, name, number or @domain begins with"
                  value={search}
                  onChange={(e) => change({ search: e.target.value || null })}
                />
                {listName && (
                  <>
                    on the list <button onClick={() => change({ list: null })}>{listName} ×</button>{" "}
                  </>
                )}
                {tagName && (
                  <>
                    tagged <button onClick={() => change({ tag: null })}>{tagName} ×</button>{" "}
                  </>
                )}
                {segmentName && (
                  <>
                    in <button onClick={() => change({ segment: null })}>{segmentName} ×</button>{" "}
                    <Link to={`/contacts/segments/${segment}`}>its conditions</Link>{" "}
                  </>
                )}
                {load !== undefined && (
                  <>
                    with <button onClick={() => change({ load: null })}>{cellWords(load)} ×</button>{" "}
                  </>
                )}
                {status !== undefined && (
                  <>
                    with status{" "}
                    <button onClick={() => change({ status: null })}>
                      {["active", "resting", "observed", "retired"][status]} ×
                    </button>
                  </>
                )}
              </div>
              <PeopleTable
                rows={p.rows}
                sort={sort}
                descending={descending}
                onSort={(s) =>
                  change({
                    sort: s,
                    order: s === sort && !descending ? "down" : s === sort ? "up" : s === "added_at" ? "down" : "up",
                  })
                }
              />
              <div className="acts">
                <Button
                  variant="outlined"
                  disabled={page === 0}
                  onClick={() => change({ page: page > 1 ? String(page - 1) : null })}
                >
                  Earlier
                </Button>
                <Button
                  variant="outlined"
                  disabled={(page + 1) * 50 >= p.matching}
                  onClick={() => change({ page: String(page + 1) })}
                >
                  Next 50
                </Button>
                <Button variant="outlined" href={`/api/contacts/people.csv?${asked(query)}`}>
                  {p.matching === p.all ? "Everyone" : "These people"} as CSV
                </Button>
                <PutOn query={query} people={p.matching} capped={p.or_more} />
                <span className="soft small">
                  {p.rows.length > 0 && `${count(page * 50 + 1)} to ${count(page * 50 + p.rows.length)}`}
                </span>
                <span className="spring" />
                <Link to="/contacts/import">Import a file</Link>
              </div>
            </>
          )
        }
      </Loaded>
    </Frame>
  );
}

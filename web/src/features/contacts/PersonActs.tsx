import { Button } from "@mui/material";
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { plural } from "../../shared/format";
import { Failure } from "../../shared/states";
import { useWorking } from "../../shared/working";

type Person = Schemas["Contact"];

/** Merging with somebody else, and deleting: both are asked about first, in the working drawer. */
export function PersonActs({ p }: { p: Person }) {
  const { show } = useWorking();
  return (
    <>
      <Button variant="outlined" onClick={() => show({ title: `Merge ${p.address}`, body: <Merge p={p} /> })}>
        Merge with another
      </Button>
      <Button
        variant="text"
        color="error"
        onClick={() => show({ title: `Delete ${p.address}?`, body: <Erase p={p} /> })}
      >
        Delete at their wish
      </Button>
    </>
  );
}

function Merge({ p }: { p: Person }) {
  const navigate = useNavigate();
  const { show } = useWorking();
  const [search, setSearch] = useState("");
  const found = useQuery({
    queryKey: ["contacts", "merge", search],
    queryFn: () => ok(api.GET("/api/contacts", { params: { query: { search } } })),
    enabled: search.trim().length > 1,
    placeholderData: keepPreviousData,
  });
  const merge = useMutation({
    mutationFn: (into: number) =>
      ok(api.POST("/api/contacts/{id}/merge", { params: { path: { id: p.id } }, body: { into } })),
    onSuccess: async (_, into) => {
      show(null);
      await navigate(`/contacts/${into}`);
    },
  });
  const others = found.data?.rows.filter((r) => r.id !== p.id).slice(0, 8) ?? [];
  return (
    <>
      <p>
        Choose who they are the same person as. That one stays, with the messages, purchases, lists and fields of both;
        of consent the stricter holds. It can be taken back for 30 days, under Base check.
      </p>
      <input
        className="bare"
        type="search"
        aria-label="Find the other person"
        placeholder="address or name begins with"
        autoFocus
        value={search}
        onChange={(e) => setSearch(e.target.value)}
      />
      <ul style={{ listStyle: "none", padding: 0 }}>
        {search.trim().length > 1 &&
          others.map((r) => (
            <li key={r.id} style={{ padding: "4px 0" }}>
              {r.address}{" "}
              <span className="soft">{[r.given_name, r.family_name, r.consent].filter(Boolean).join(" ")}</span>{" "}
              <button className="plain" disabled={merge.isPending} onClick={() => merge.mutate(r.id)}>
                Merge into<span className="away"> {r.address}</span>
              </button>
            </li>
          ))}
      </ul>
      <Failure error={merge.error ?? found.error} />
    </>
  );
}

function Erase({ p }: { p: Person }) {
  const navigate = useNavigate();
  const { show } = useWorking();
  const [typed, setTyped] = useState("");
  const erase = useMutation({
    mutationFn: () => ok(api.DELETE("/api/contacts/{id}", { params: { path: { id: p.id } } })),
    onSuccess: async () => {
      show(null);
      await navigate("/contacts");
    },
  });
  return (
    <>
      <p>
        Their name, address, fields, lists and tags are removed, and the files of finished imports with them.{" "}
        {plural(p.messages.length, "message")} and {plural(p.purchases.length, "purchase")} stay in the counts of
        reports, without a name. A keyed hash of the address stays, so that no file brings them back: only their own
        sign-up does.
      </p>
      <p className="bad">This can’t be taken back.</p>
      <input
        className="bare"
        aria-label="Type the address to delete it"
        placeholder="type the address"
        value={typed}
        onChange={(e) => setTyped(e.target.value)}
      />
      <div className="acts">
        <Button
          variant="outlined"
          color="error"
          disabled={typed.trim().toLowerCase() !== p.address.toLowerCase() || erase.isPending}
          onClick={() => erase.mutate()}
        >
          Delete this person
        </Button>
      </div>
      <Failure error={erase.error} />
    </>
  );
}

import { Button } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok } from "../../api/client";
import { count, plural } from "../../shared/format";
import { Pick } from "../../shared/Pick";
import { Failure } from "../../shared/states";
import { useVocabulary } from "../../shared/useVocabulary";

/** Puts people in by hand: by their addresses, or a list. */
export function PutIn({ id }: { id: number }) {
  const v = useVocabulary().data;
  const [list, setList] = useState(0);
  const [text, setText] = useState("");
  const addresses = text.split(/[\s,;]+/).filter(Boolean);
  const put = useMutation({
    mutationFn: () =>
      ok(
        api.POST("/api/series/{id}/people", {
          params: { path: { id } },
          body: { contacts: [], addresses, list: list || null },
        }),
      ),
    onSuccess: async () => {
      setText("");
    },
  });
  return (
    <section aria-label="Put people in">
      <h2>Put people in</h2>
      <p>
        <input
          className="bare"
          aria-label="Addresses"
          placeholder="addresses, by commas or spaces"
          style={{ width: 360 }}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />{" "}
        and{" "}
        <Pick
          label="List"
          value={list}
          options={[[0, "no list"], ...(v?.lists ?? []).map((l) => [l.id, `everyone on ${l.name}`] as const)]}
          onChange={setList}
        />{" "}
        <Button
          variant="outlined"
          size="small"
          disabled={put.isPending || (addresses.length === 0 && list === 0)}
          onClick={() => put.mutate()}
        >
          Put them in
        </Button>
      </p>
      {put.data && (
        <p className="note">
          {plural(put.data.entered, "person", "people")} of {count(put.data.asked)} entered; the others are inside, were
          in it, left it by their own choice, or are gone.
          {put.data.unknown.length > 0 && ` Not in the base: ${put.data.unknown.join(", ")}.`}
        </p>
      )}
      <Failure error={put.error} />
    </section>
  );
}

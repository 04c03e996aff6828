import { useMutation } from "@tanstack/react-query";
import { Button } from "@mui/material";
import { api, ok, type Schemas } from "../../api/client";
import type { paths } from "../../api/schema";
import { plural } from "../../shared/format";
import { Failure } from "../../shared/states";
import { useVocabulary } from "../../shared/useVocabulary";
import { useWorking } from "../../shared/working";

type Query = paths["/api/contacts"]["get"]["parameters"]["query"];

/** Puts everybody the list shows, on all its pages, on a list or a tag, or sunsets them. */
export function PutOn({ query, people, capped }: { query: Query; people: number; capped: boolean }) {
  const { show } = useWorking();
  const vocabulary = useVocabulary().data;
  const put = useMutation({
    mutationFn: (body: Schemas["PutOn"]) => ok(api.POST("/api/contacts/put", { params: { query }, body })),
    onSuccess: () => {
      show(null);
    },
  });
  if (!vocabulary) return null;
  const who = capped ? "everybody shown" : plural(people, "person", "people");
  const ask = (key: string) => {
    if (key === "sunset")
      return show({
        title: `Sunset ${who}?`,
        body: (
          <>
            <p>
              They get no more marketing, for their silence. Consent and service mail stay. Any answer of their own or
              sign-up lifts it, and it can be taken back for 30 days, under Base check.
            </p>
            <Button variant="contained" onClick={() => put.mutate({ word: "sunset", id: 0 })}>
              Sunset them
            </Button>
          </>
        ),
      });
    const [word, id] = key.split(":") as ["list" | "tag", string];
    const name = (word === "list" ? vocabulary.lists : vocabulary.tags).find((x) => x.id === Number(id))?.name;
    show({
      title: `Put ${who} on ${name}?`,
      body: (
        <>
          <p>
            {word === "list" ? "They join the list now." : "They get the tag."} Who is on it already stays as they are.
            It can be taken back for 30 days, under Base check.
          </p>
          <Button variant="contained" onClick={() => put.mutate({ word, id: Number(id) })}>
            Put them on it
          </Button>
        </>
      ),
    });
  };
  return (
    <>
      <select className="bare" aria-label="Put these people on" value="" onChange={(e) => ask(e.target.value)}>
        <option value="">put these people on …</option>
        <option value="sunset">sunset: no more marketing, for silence</option>
        <optgroup label="Lists">
          {vocabulary.lists.map((l) => (
            <option key={l.id} value={`list:${l.id}`}>
              {l.name}
            </option>
          ))}
        </optgroup>
        <optgroup label="Tags">
          {vocabulary.tags.map((t) => (
            <option key={t.id} value={`tag:${t.id}`}>
              {t.name}
            </option>
          ))}
        </optgroup>
      </select>
      <Failure error={put.error} />
    </>
  );
}

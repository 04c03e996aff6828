import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Failure } from "../../shared/states";
import { useWorking } from "../../shared/working";
import { PeopleTable } from "../contacts/PeopleTable";
import { type Tree } from "./leaf";

/** Some of the people; "why" opens their answers in the working. */
export function Why({ tree, sample }: { tree: Tree; sample: Schemas["ContactRow"][] }) {
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

import { Button, MenuItem, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { instant, plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { deliverySlips } from "./slips";

type Blocklist = Schemas["Blocklist"];

const ANSWERS: Record<Blocklist["answers"], string> = {
  not_asked: "not asked yet",
  as_a_list: "answers as a list does",
  not_as_a_list: "doesn’t answer as a list does: what it says is left aside",
};

/** Has another list asked. */
function Add() {
  const [zone, setZone] = useState("");
  const [of, setOf] = useState<Schemas["BlocklistOf"]>("addresses");
  const add = useMutation({
    mutationFn: () => ok(api.POST("/api/delivery/blocklists", { body: { zone, of } })),
    onSuccess: () => setZone(""),
  });
  return (
    <form
      className="acts"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate();
      }}
    >
      <TextField
        size="small"
        label="A list, as it is asked"
        value={zone}
        onChange={(e) => setZone(e.target.value)}
        style={{ width: "24em" }}
        slotProps={{ htmlInput: { maxLength: 253 } }}
      />
      <TextField
        select
        size="small"
        label="It has"
        style={{ width: "10em" }}
        value={of}
        onChange={(e) => setOf(e.target.value as Schemas["BlocklistOf"])}
      >
        <MenuItem value="addresses">addresses</MenuItem>
        <MenuItem value="domains">domains</MenuItem>
      </TextField>
      <Button type="submit" variant="outlined" size="small" disabled={add.isPending || !zone.trim()}>
        Ask it
      </Button>
      <Failure error={add.error} />
    </form>
  );
}

/** Which lists have anything of ours, and had. */
export function BlocklistsPage() {
  const names = useQuery({ queryKey: ["our-names"], queryFn: () => ok(api.GET("/api/delivery/names")) });
  const look = useMutation({ mutationFn: () => ok(api.POST("/api/delivery/names/look")) });
  const remove = useMutation({
    mutationFn: (id: number) => ok(api.DELETE("/api/delivery/blocklists/{id}", { params: { path: { id } } })),
  });
  return (
    <Frame slips={deliverySlips}>
      <Loaded query={names}>
        {(v) => {
          const lists = v.blocklists;
          const listed = lists.flatMap((b) =>
            b.listings.filter((l) => l.off_at == null).map((l) => `${l.subject} on ${b.list.zone}`),
          );
          return (
            <>
              <div className="crumb">
                <span>Delivery</span>
              </div>
              <h1>Blocklists</h1>
              <p className="finding">
                {lists.length === 0 ? (
                  "No list is asked. Enter those that the hosts you mail to use."
                ) : listed.length === 0 ? (
                  <>
                    Nothing of ours is listed: <em>{plural(lists.length, "list")}</em> asked.
                  </>
                ) : (
                  <>
                    Listed: <em>{listed.join("; ")}</em>.
                  </>
                )}
              </p>
              <p className="soft" style={{ maxWidth: "62em" }}>
                Each list is asked once a day about the addresses our mail goes out from, or the domains it comes from
                (RFC 5782), after it has shown that it is one. The addresses are entered under{" "}
                <Link to="/delivery/authentication">Authentication</Link>. For the keeper of a list there is{" "}
                <Link to="/upkeep/evidence">the evidence</Link> of how this base is kept.
              </p>
              <Add />
              {lists.length > 0 && (
                <>
                  <div className="acts">
                    <Button
                      variant="contained"
                      size="small"
                      disabled={look.isPending || !v.dns}
                      onClick={() => look.mutate()}
                    >
                      Look again
                    </Button>
                  </div>
                  <DataTable<Blocklist>
                    name="Blocklists"
                    rows={lists}
                    id={(b) => b.list.id}
                    columns={(col) => [
                      col.text("List", (b) => b.list.zone),
                      col.text("Has", (b) => b.list.of),
                      col.text("Answers", (b) => ANSWERS[b.answers]),
                      col.text("Asked", (b) => (b.asked_at == null ? "" : instant(b.asked_at))),
                      col.shown(
                        "Of ours",
                        (b) => b.listings.filter((l) => l.off_at == null).length,
                        (b) =>
                          b.listings.length === 0
                            ? "nothing, ever"
                            : b.listings.map((l) => (
                                <div key={`${l.subject}${l.listed_at}`}>
                                  {l.subject}, {instant(l.listed_at)}{" "}
                                  {l.off_at == null ? <b>and still</b> : `to ${instant(l.off_at)}`}
                                  {l.answer && <div className="soft small">{l.answer}</div>}
                                </div>
                              )),
                      ),
                      col.acts((b) => (
                        <button className="plain" disabled={remove.isPending} onClick={() => remove.mutate(b.list.id)}>
                          ask no more<span className="away"> {b.list.zone}</span>
                        </button>
                      )),
                    ]}
                  />
                </>
              )}
              <Failure error={look.error ?? remove.error} />
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}

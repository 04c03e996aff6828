import { Button, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, instant, percent, plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { deliverySlips } from "./slips";

type Mailbox = Schemas["PanelMailbox"];
type OfMailing = Schemas["PanelMailing"];

/** "8 of 10 in the inbox, 49 to 94%": a sample, told with its limits. */
const sample = (m: OfMailing) =>
  m.inbox.of === 0
    ? "nobody has looked yet"
    : `${count(m.inbox.count)} of ${count(m.inbox.of)}, ${percent(m.inbox.lower, 0)} to ${percent(m.inbox.upper, 0)}`;

/** Puts more mailboxes on the panel. */
function Add() {
  const [addresses, setAddresses] = useState("");
  const add = useMutation({
    mutationFn: () => ok(api.POST("/api/delivery/panel", { body: { addresses } })),
    onSuccess: () => setAddresses(""),
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
        multiline
        maxRows={6}
        label="Addresses of mailboxes you can look into"
        value={addresses}
        onChange={(e) => setAddresses(e.target.value)}
        style={{ width: "30em" }}
      />
      <Button type="submit" variant="outlined" size="small" disabled={add.isPending || !addresses.trim()}>
        Put them on the panel
      </Button>
      <Failure error={add.error} />
    </form>
  );
}

/** Where copies of our mailings land in mailboxes of our own. */
export function PanelPage() {
  const panel = useQuery({ queryKey: ["test-panel"], queryFn: () => ok(api.GET("/api/delivery/panel")) });
  const remove = useMutation({
    mutationFn: (id: number) => ok(api.DELETE("/api/delivery/panel/{id}", { params: { path: { id } } })),
  });
  return (
    <Frame slips={deliverySlips}>
      <Loaded query={panel}>
        {({ mailboxes, mailings }) => {
          const told = mailings.find((m) => m.inbox.of > 0);
          const shown = mailings.slice(0, 5);
          return (
            <>
              <div className="crumb">
                <span>Delivery</span>
              </div>
              <h1>Test panel</h1>
              <p className="finding">
                {told ? (
                  <>
                    Of the copies of “{told.name}”{" "}
                    <em>
                      {count(told.inbox.count)} of {count(told.inbox.of)}
                    </em>{" "}
                    came into the inbox: {percent(told.inbox.lower, 0)} to {percent(told.inbox.upper, 0)} of such
                    mailboxes, as far as so few can tell.
                  </>
                ) : mailboxes.length === 0 ? (
                  "Nobody is on the panel. Put mailboxes on it that you can look into, some of each group you mail to."
                ) : (
                  <>
                    {plural(mailboxes.length, "mailbox", "mailboxes")} on the panel; nobody has told yet where a copy
                    landed.
                  </>
                )}
              </p>
              <p className="soft" style={{ maxWidth: "62em" }}>
                Each mailbox gets a copy of every mailing as it begins, of its first variant, with links that count
                nothing. Who looks into them tells by <Link to="/setup/systems">a door</Link> where each landed:{" "}
                <code>{'{"kind": "placement", "address": …, "mailing": 51, "placement": "inbox"}'}</code>, junk or
                missing. It is a sample, and stands in no figure; mail to people of a group is told by{" "}
                <Link to="/delivery/alerts">what they open</Link>.
              </p>
              <Add />
              {mailings.length > 0 && (
                <DataTable<OfMailing>
                  name="Copies by mailing"
                  rows={mailings}
                  id={(m) => m.id}
                  columns={(col) => [
                    col.shown(
                      "Mailing",
                      (m) => m.name,
                      (m) => <Link to={`/mailings/${m.id}`}>{m.name}</Link>,
                    ),
                    col.number("Number", (m) => m.id),
                    col.text("Copies from", (m) => instant(m.at)),
                    col.number("Copies", (m) => m.copies),
                    col.shown("In the inbox, 95%", (m) => m.inbox.rate, sample, { num: true }),
                    col.number("Junk", (m) => m.junk),
                    col.number("Missing", (m) => m.missing),
                  ]}
                />
              )}
              {mailboxes.length > 0 && (
                <DataTable<Mailbox>
                  name="Mailboxes of the panel"
                  rows={mailboxes}
                  id={(b) => b.id}
                  columns={(col) => [
                    col.text("Group", (b) => b.group),
                    col.text("Mailbox", (b) => b.address),
                    ...shown.map((m) => ({
                      ...col.text(`${m.name}`, (b: Mailbox) => {
                        const copy = b.copies.find((x) => x.mailing === m.id);
                        return copy ? (copy.place ?? (copy.reply || "on its way")) : "–";
                      }),
                      key: `mailing-${m.id}`,
                    })),
                    col.acts(
                      (b) => (
                        <button className="plain" disabled={remove.isPending} onClick={() => remove.mutate(b.id)}>
                          take off<span className="away"> {b.address}</span>
                        </button>
                      ),
                      { whole: true },
                    ),
                  ]}
                />
              )}
              <Failure error={remove.error} />
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}

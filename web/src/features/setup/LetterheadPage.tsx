import { Button, MenuItem, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { SigningKeys } from "./SigningKeys";
import { useSetupSlips } from "./useSetupSlips";

type Letterhead = Schemas["Letterhead"];
const EMPTY: Letterhead = {
  id: 0,
  name: "",
  from_name: "",
  from_address: "",
  postal_address: "",
  ground: "#ffffff",
  ink: "#17212b",
  accent: "#2c3a8f",
  zone: "UTC",
  country: null,
  one_click: "topic",
  double_opt_in: true,
  wording: "",
  entity: "",
  reply_to: "",
  social: [],
  logo_id: null,
  is_default: false,
  text_number: "",
};

/** What a change reaches, by name, and what it doesn't. */
function Reach({ id }: { id: number }) {
  const reach = useQuery({
    queryKey: ["reach", id],
    queryFn: () => ok(api.GET("/api/letterheads/{id}/reach", { params: { path: { id } } })),
  });
  const [open, setOpen] = useState(false);
  if (!reach.data) return null;
  const { drafts, planned, sent } = reach.data;
  const all = [...planned, ...drafts];
  return (
    <p className="soft">
      A change reaches{" "}
      <button className="plain" onClick={() => setOpen(!open)} aria-expanded={open}>
        {plural(drafts.length, "draft")} and {plural(planned.length, "planned mailing")}
      </button>
      , and nothing of the {plural(sent, "mailing")} that went out under it.
      {open &&
        all.map((m) => (
          <span key={m.id} style={{ display: "block" }}>
            <Link to={`/mailings/${m.id}`}>{m.name}</Link>
          </span>
        ))}
    </p>
  );
}

function Editor({ from }: { from: Letterhead }) {
  const navigate = useNavigate();
  const [l, setL] = useState(from);
  const save = useMutation({
    mutationFn: () => ok(api.POST("/api/letterheads", { body: l })),
    onSuccess: async (id) => {
      await navigate(`/setup/letterheads/${id}`);
    },
  });
  const text = (
    key: "name" | "from_name" | "from_address" | "reply_to" | "postal_address" | "zone" | "text_number",
    label: string,
    help?: string,
  ) => (
    <TextField
      label={label}
      value={l[key] ?? ""}
      helperText={help}
      onChange={(e) => setL({ ...l, [key]: e.target.value })}
    />
  );
  const images = useQuery(queries.images);
  const social = l.social ?? [];
  const setSocial = (i: number, s: (typeof social)[number]) =>
    setL({ ...l, social: social.map((x, j) => (j === i ? s : x)) });
  const colour = (key: "ground" | "ink" | "accent", label: string) => (
    <label className="small soft">
      {label}
      <br />
      <input type="color" value={l[key]} onChange={(e) => setL({ ...l, [key]: e.target.value })} />
    </label>
  );
  return (
    <>
      <div className="crumb">
        <span>Letterhead</span>
      </div>
      <h1>{from.name || "New letterhead"}</h1>
      <p className="finding">Messages take their sender, postal address and looks from here.</p>
      {from.id ? (
        <Reach id={from.id} />
      ) : (
        <p className="soft">They refer to it: a change reaches every draft, and nothing that was sent.</p>
      )}
      <div className="fields">
        <div className="two">
          {text("name", "Name", "Shown on the public pages")}
          {text("from_name", "Mail comes from (name)")}
        </div>
        <div className="two">
          {text("from_address", "From address")}
          {text("postal_address", "Postal address", "Stands in every marketing message")}
          {text(
            "reply_to",
            "Replies go to",
            "Empty: reply@ the domain of the from address. Rinse adds a token, to match them",
          )}
          <TextField
            select
            label="Logo"
            value={l.logo_id ?? ""}
            helperText="An uploaded image; messages show it by {{ logo_url }}"
            slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
            onChange={(e) => setL({ ...l, logo_id: e.target.value === "" ? null : Number(e.target.value) })}
          >
            <MenuItem value="">None</MenuItem>
            {(images.data ?? []).map((i) => (
              <MenuItem key={i.id} value={i.id}>
                {i.name}
              </MenuItem>
            ))}
          </TextField>
        </div>
        <div>
          {social.map((s, i) => (
            <div key={i} style={{ display: "flex", gap: 10, marginBottom: 8 }}>
              <TextField
                label="Page elsewhere"
                value={s.name}
                style={{ maxWidth: 220 }}
                onChange={(e) => setSocial(i, { ...s, name: e.target.value })}
              />
              <TextField
                label="Its address"
                value={s.url}
                onChange={(e) => setSocial(i, { ...s, url: e.target.value })}
              />
              <Button variant="outlined" onClick={() => setL({ ...l, social: social.filter((_, j) => j !== i) })}>
                Remove
              </Button>
            </div>
          ))}
          <button className="plain" onClick={() => setL({ ...l, social: [...social, { name: "", url: "https://" }] })}>
            Add a page elsewhere, shown by {"{{ social_links }}"}
          </button>
        </div>
        <div className="two">
          {text("zone", "Time zone", "For people whose own isn't known, as Europe/London is written")}
          <TextField
            label="Country"
            value={l.country ?? ""}
            helperText="For people whose own isn't known: two letters, as GB"
            onChange={(e) => setL({ ...l, country: e.target.value.toUpperCase() || null })}
          />
          <TextField
            label="Legal entity"
            value={l.entity ?? ""}
            helperText="Empty: the first. Another one keeps separate consent: give the same name to all its letterheads"
            onChange={(e) => setL({ ...l, entity: e.target.value })}
          />
          {text(
            "text_number",
            "Text messages come from",
            "A number or a short code that people can answer, so that STOP ends them. Empty: none are sent",
          )}
          <TextField
            select
            label="One-click unsubscribe ends"
            value={l.one_click ?? "topic"}
            onChange={(e) => setL({ ...l, one_click: e.target.value })}
          >
            <MenuItem value="topic">the mailing's topic</MenuItem>
            <MenuItem value="everything">all email</MenuItem>
          </TextField>
        </div>
        <TextField
          label="What people agree to when they sign up"
          multiline
          minRows={2}
          value={l.wording ?? ""}
          helperText="Every change is kept as a version, and each sign-up names the one it saw"
          onChange={(e) => setL({ ...l, wording: e.target.value })}
        />
        <label>
          <input
            type="checkbox"
            checked={l.is_default ?? false}
            disabled={from.is_default}
            onChange={(e) => setL({ ...l, is_default: e.target.checked })}
          />{" "}
          New mailings begin under this letterhead
        </label>
        <label>
          <input
            type="checkbox"
            checked={l.double_opt_in ?? true}
            onChange={(e) => setL({ ...l, double_opt_in: e.target.checked })}
          />{" "}
          A sign-up has to be confirmed by a link sent to the address
        </label>
        {from.id ? (
          <p className="soft small" style={{ margin: 0 }}>
            The sign-up form is at{" "}
            <a href={`/f/${from.id}`} target="_blank" rel="noreferrer">
              /f/{from.id}
            </a>
            , in these colours.
          </p>
        ) : null}
        <div style={{ display: "flex", gap: 20 }}>
          {colour("ground", "Ground")}
          {colour("ink", "Text")}
          {colour("accent", "Buttons")}
        </div>
      </div>
      <Failure error={save.error} />
      {save.isSuccess && (
        <p className="note good" role="status">
          Saved.
        </p>
      )}
      <div className="acts">
        <Button variant="contained" disabled={save.isPending} onClick={() => save.mutate()}>
          Save the letterhead
        </Button>
      </div>
      {from.id ? <SigningKeys letterhead={from.id} /> : null}
    </>
  );
}

export function LetterheadPage() {
  const id = Number(useParams().id);
  const slips = useSetupSlips();
  const letterheads = useQuery(queries.letterheads);
  return (
    <Frame slips={slips}>
      <Loaded query={letterheads}>{(all) => <Editor key={id} from={all.find((l) => l.id === id) ?? EMPTY} />}</Loaded>
    </Frame>
  );
}

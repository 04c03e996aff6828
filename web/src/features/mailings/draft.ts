import type { Schemas } from "../../api/client";

export type Draft = Schemas["MailingDraft"];
export type Schedule = NonNullable<Draft["schedule"]>;

const HTML = `<html><body>
<p>Dear {{ given_name|default("friend") }},</p>
<p>…</p>
<p><a href="https://">Read more</a></p>
<p>{{ sender_name }}, {{ postal_address }}<br>
<a href="{{ share_url }}">Open or share in a browser</a>,
<a href="{{ preferences_url }}">choose what you get</a>,
<a href="{{ unsubscribe_url }}">stop these letters</a></p>
</body></html>`;

export const emptyDraft: Draft = {
  name: "",
  channel: "email",
  companion_of: null,
  topic_id: null,
  letterhead_id: 0,
  list_id: null,
  segment_id: null,
  also: [],
  without: [],
  over_cap: "hold",
  priority: 3,
  hold_days: 7,
  exceed_reason: "",
  service_reason: "",
  complainers_reason: "",
  leave_out: [],
  preheader: "",
  format: "html",
  html: HTML,
  text: "",
  subjects: [""],
  senders: [],
  schedule: { local: null, spread_minutes: 0, rates: [] },
  template: false,
  handed_out: false,
};

/** A text message has no subject, no HTML and no preheader. */
export const emptyText: Draft = {
  ...emptyDraft,
  channel: "text",
  html: "",
  text: "{{ sender_name }}: \nReply STOP to end.",
};

/** Only what the editor saves, of a mailing or a draft. */
export function draftOf(m: Draft): Draft {
  const keys = Object.keys(emptyDraft) as (keyof Draft)[];
  return Object.fromEntries(keys.map((k) => [k, m[k] ?? emptyDraft[k]])) as Draft;
}

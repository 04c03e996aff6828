import type { Schemas } from "../../api/client";
import { plural } from "../../shared/format";

type Words = { title: string; about: string; fix: string; all: string; act: string; ask: (n: number) => string };

const people = (n: number) => plural(n, "person", "people");
const tagged = (title: string, about: string, tag: string): Words => ({
  title,
  about,
  fix: `Put them in the tag ${tag}, to leave out or look at.`,
  all: "Tag all of them",
  act: `Put in the tag ${tag}`,
  ask: (n) => `Put ${people(n)} in the tag ${tag}?`,
});

/** What the findings of the base check are called, and what their fixes do. */
export const FINDINGS: Record<Schemas["BaseFinding"], Words> = {
  syntax: tagged("Not an address", "By the rules for addresses (RFC 5321) no mail can reach it.", "Not an address"),
  near_miss: {
    title: "Mistyped domain",
    about: "One slip from a domain that many people here have, and nobody ever answered from it.",
    fix: "Correct the domain. Consent starts at none: nobody agreed for the new address.",
    all: "Correct all of them",
    act: "Correct them",
    ask: (n) => `Correct the address of ${people(n)}?`,
  },
  duplicate: {
    title: "Duplicate",
    about: "The same mailbox as somebody else: the addresses differ after a plus sign (RFC 5233).",
    fix: "Merge them. Of consent the stricter holds.",
    all: "Merge all of them",
    act: "Merge them",
    ask: (n) => `Merge ${people(n)} into the person with the same mailbox?`,
  },
  role: tagged(
    "Role account",
    "Stands for a function, as in RFC 2142: several people read it, none signed up.",
    "Role account",
  ),
  disposable: tagged("Disposable", "From a domain that gives out addresses to throw away.", "Disposable address"),
  no_mail_host: tagged("No mail host", "Its domain takes no mail.", "No mail host"),
};

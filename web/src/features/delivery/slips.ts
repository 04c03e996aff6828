/** The slips of the Delivery station. */
export const deliverySlips = [
  {
    title: "Delivery",
    slips: [
      { to: "/delivery", title: "Is our mail let in?", words: "by mailbox group and day" },
      { to: "/delivery/alerts", title: "Alerts", words: "what was found, and done" },
      { to: "/delivery/groups", title: "Mailbox groups", words: "who takes mail for whom" },
      { to: "/delivery/warm-up", title: "Warm-up", words: "names that hosts don’t know yet" },
      { to: "/delivery/authentication", title: "Authentication", words: "what DNS says of us" },
      { to: "/delivery/panel", title: "Test panel", words: "where copies land" },
      { to: "/delivery/reports", title: "Who sends in our name", words: "DMARC and TLS reports" },
      { to: "/delivery/blocklists", title: "Blocklists", words: "who has us on one" },
      { to: "/upkeep/reasons", title: "Reply lines", words: "what hosts said" },
      { to: "/clearance/domains", title: "Domains", words: "pauses by hand" },
    ],
  },
];

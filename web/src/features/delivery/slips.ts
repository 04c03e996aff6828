/** The slips of the Delivery station. */
export const deliverySlips = [
  {
    title: "Delivery",
    slips: [
      { to: "/delivery", title: "Is our mail let in?", words: "by mail domain and day" },
      { to: "/delivery/reports", title: "Who sends in our name", words: "DMARC and TLS reports" },
      { to: "/upkeep/reasons", title: "Reply lines", words: "what hosts said" },
      { to: "/clearance/domains", title: "Domains", words: "pauses by hand" },
    ],
  },
];

/** The slips of the Upkeep station. */
export const upkeepSlips = [
  {
    title: "Bounces",
    slips: [
      { to: "/upkeep", title: "Retired" },
      { to: "/upkeep?part=resting", title: "Resting" },
      { to: "/upkeep?part=observed", title: "Observed" },
    ],
  },
  { title: "People", slips: [{ to: "/upkeep/load", title: "Mail load", words: "how much, how answered" }] },
];

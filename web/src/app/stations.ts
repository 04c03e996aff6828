/** The stations of the workline, in order; each has the key of its number. */
export const STATIONS = [
  { path: "/today", name: "Today" },
  { path: "/contacts", name: "Contacts" },
  { path: "/clearance", name: "Clearance" },
  { path: "/mailings", name: "Mailings" },
  { path: "/trials", name: "Trials" },
  { path: "/series", name: "Series" },
  { path: "/delivery", name: "Delivery" },
  { path: "/findings", name: "Findings" },
  { path: "/upkeep", name: "Upkeep" },
];

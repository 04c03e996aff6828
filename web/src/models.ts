/** The logic that pages share and that needs no page: put together for its tests. */
export { QueryObserver } from "@tanstack/react-query";
export { cache, everything } from "./api/cache";
export * from "./api/stale";
export * from "./features/clearance/rulesForm";
export * as columnField from "./features/contacts/columnField";
export * from "./features/hours/hours";
export * from "./features/mailings/draft";
export * from "./features/segments/leaf";
export * from "./features/trials/unit";
export * from "./shared/format";
export * from "./shared/load";
export * from "./shared/table/columns";

import { lazy, type ComponentType } from "react";
import { Navigate, Route, Routes } from "react-router";

/** A page whose script comes when it is first asked for. */
export const page = (load: () => Promise<ComponentType>) => lazy(async () => ({ default: await load() }));

/** The pages below an address; whatever else stands there leads to Today. */
export function Pages({ of }: { of: readonly (readonly [string, ComponentType])[] }) {
  return (
    <Routes>
      {of.map(([path, Page]) => (
        <Route key={path} path={path} element={<Page />} />
      ))}
      <Route path="*" element={<Navigate to="/today" replace />} />
    </Routes>
  );
}

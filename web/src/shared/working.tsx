import { createContext, type ReactNode, useContext } from "react";

/** What the working drawer shows: the way a figure came about. */
export type Working = { title: string; body: ReactNode } | null;

export const WorkingContext = createContext<{ working: Working; show: (w: Working) => void }>({
  working: null,
  show: () => undefined,
});

export const useWorking = () => useContext(WorkingContext);

import { useLocation } from "react-router";

/** The pages that have a table for paper. */
const PAGES = ["", "/revenue", "/links", "/cohorts", "/reactions", "/compare", "/answers"].map((p) => `/findings${p}`);
export const fitsPaper = (pathname: string) => PAGES.includes(pathname);

/** The page as it is asked for, as a PDF. */
export function OnPaper() {
  const { pathname, search } = useLocation();
  return <a href={`/api/findings/page.pdf?path=${encodeURIComponent(pathname + search)}`}>this page as PDF</a>;
}

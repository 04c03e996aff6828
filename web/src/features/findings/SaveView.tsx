import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useLocation } from "react-router";
import { api, ok } from "../../api/client";
import { queries } from "../../api/queries";
import { Failure } from "../../shared/states";
import { fitsPaper } from "./OnPaper";
import { ViewLetters } from "./ViewLetters";

/** Saves what stands in the address under a name, or forgets the view that it is. */
export function SaveView() {
  const { pathname, search } = useLocation();
  const [name, setName] = useState<string | null>(null);
  const [mailed, setMailed] = useState(false);
  const path = pathname + search;
  const view = useQuery(queries.savedViews).data?.find((v) => v.path === path);
  const save = useMutation({
    mutationFn: (name: string) => ok(api.POST("/api/findings/views", { body: { name, path } })),
    onSuccess: () => setName(null),
  });
  const forget = useMutation({
    mutationFn: (id: number) => ok(api.DELETE("/api/findings/views/{id}", { params: { path: { id } } })),
  });
  if (view)
    return (
      <>
        <span className="soft">
          {view.name}{" "}
          {fitsPaper(pathname) && (
            <button className="plain" aria-expanded={mailed} onClick={() => setMailed(!mailed)}>
              Mail it each week
            </button>
          )}{" "}
          <button className="plain" onClick={() => forget.mutate(view.id)}>
            Forget this view
          </button>
          <Failure error={forget.error} />
        </span>
        {mailed && <ViewLetters view={view.id} close={() => setMailed(false)} />}
      </>
    );
  return name === null ? (
    <button className="plain" onClick={() => setName("")}>
      Save this view
    </button>
  ) : (
    <form
      style={{ display: "inline-flex", gap: 8 }}
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(name);
      }}
    >
      <label htmlFor="view-name">Name of the view</label>
      <input id="view-name" className="bare" value={name} onChange={(e) => setName(e.target.value)} />
      <button className="plain" disabled={name.trim() === "" || save.isPending}>
        Save
      </button>
      <Failure error={save.error} />
    </form>
  );
}

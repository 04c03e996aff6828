import { useMutation } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { api, ok } from "../../api/client";
import { Failure } from "../../shared/states";

type Props = { id: number; name: string; state: string; template: boolean; archived: boolean };

/** What can be done with any mailing: begin another from it, keep it as a template, hold it against another, put it away. */
export function CopyActs({ id, name, state, template, archived }: Props) {
  const navigate = useNavigate();
  const path = { path: { id } };
  const copy = useMutation({
    mutationFn: (asTemplate: boolean) =>
      ok(
        api.POST("/api/mailings/{id}/copy", {
          params: path,
          body: {
            name: asTemplate ? `${name}, template` : template ? name.replace(/, template$/, "") : `${name}, again`,
            template: asTemplate,
          },
        }),
      ),
    onSuccess: async (made) => {
      await navigate(`/mailings/${made}`);
    },
  });
  const archive = useMutation({
    mutationFn: () => ok(api.PUT("/api/mailings/{id}/archive", { params: path, body: { away: !archived } })),
    onSuccess: async () => {
      await navigate(archived ? `/mailings/${id}` : "/mailings");
    },
  });
  return (
    <>
      <button className="plain" onClick={() => copy.mutate(false)}>
        {template ? "Begin a mailing from it" : "Copy it"}
      </button>
      {!template && (
        <button className="plain" onClick={() => copy.mutate(true)}>
          Keep a copy as a template
        </button>
      )}
      <Link to={`/mailings/compare?left=${id}`}>Compare it</Link>
      {(state === "draft" || state === "sent") && (
        <button className="plain" onClick={() => archive.mutate()}>
          {archived ? "Take it out of the archive" : "Put it in the archive"}
        </button>
      )}
      <Failure error={copy.error ?? archive.error} />
    </>
  );
}

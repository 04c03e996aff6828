import { useMutation } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Failure } from "../../shared/states";

/** The text messages that go along with an email, or the email that a text message goes along with. */
export function Companions({ m }: { m: Schemas["Mailing"] }) {
  const navigate = useNavigate();
  const add = useMutation({
    mutationFn: () => ok(api.POST("/api/mailings/{id}/companion", { params: { path: { id: m.id } } })),
    onSuccess: async (made) => {
      await navigate(`/mailings/${made}`);
    },
  });
  if (m.channel === "text")
    return m.companion_of ? (
      <p style={{ margin: "2px 0" }}>
        Goes along with <Link to={`/mailings/${m.companion_of}`}>an email</Link>; its audience is its own.
      </p>
    ) : null;
  if (m.template || m.series_id != null) return null;
  return (
    <p style={{ margin: "2px 0" }}>
      {m.companions.map((x) => (
        <span key={x.id} style={{ marginRight: 12 }}>
          Text message: <Link to={`/mailings/${x.id}`}>{x.name}</Link>
        </span>
      ))}
      <button className="plain" disabled={add.isPending} onClick={() => add.mutate()}>
        {m.companions.length ? "Add another text message" : "Add a text message to go along"}
      </button>
      <Failure error={add.error} />
    </p>
  );
}

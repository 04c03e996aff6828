import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok } from "../../api/client";
import { instant, plural } from "../../shared/format";

/** What people wrote back, the newest first. */
export function Replies({ id }: { id: number }) {
  const replies = useQuery({
    queryKey: ["replies", id],
    queryFn: () => ok(api.GET("/api/mailings/{id}/replies", { params: { path: { id } } })),
  });
  const all = replies.data ?? [];
  if (all.length === 0) return null;
  const sure = all.filter((r) => !r.probable).length;
  return (
    <>
      <h2>
        {plural(sure, "reply", "replies")}
        {sure < all.length &&
          `, and ${plural(all.length - sure, "message that probably is one", "messages that probably are some")}`}
      </h2>
      {all.map((r, i) => (
        <div key={i} style={{ borderTop: "1px solid var(--rule)", padding: "6px 0" }}>
          <Link to={`/contacts/${r.contact}`}>{r.address || "somebody who is gone"}</Link>{" "}
          <span className="soft small">
            {instant(r.at)}
            {r.probable && "; probably: known by its sender and subject alone, so nothing comes of it"}
          </span>
          <p style={{ margin: "2px 0", whiteSpace: "pre-wrap" }}>{r.text}</p>
        </div>
      ))}
    </>
  );
}

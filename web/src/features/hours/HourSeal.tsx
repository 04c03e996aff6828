import { useQuery } from "@tanstack/react-query";
import { api, ok } from "../../api/client";

/** Do the plan and the draws stand as they were sealed? */
export function HourSeal({ id, digest }: { id: number; digest: string | null | undefined }) {
  const seal = useQuery({
    queryKey: ["hour-seal", id],
    queryFn: () => ok(api.GET("/api/hour-trials/{id}/seal", { params: { path: { id } } })),
  }).data;
  return (
    <>
      <h2>The seal</h2>
      {!seal ? (
        <p className="soft">Looking at it …</p>
      ) : seal.broken ? (
        <p className="note bad">{seal.broken}</p>
      ) : (
        <p className="soft" style={{ margin: "0 0 4px" }}>
          The plan is as it was sealed, and every roster is what the draw makes of it again.
        </p>
      )}
      <p className="soft small" style={{ wordBreak: "break-all", margin: 0 }}>
        SHA-256 {digest}
      </p>
    </>
  );
}

import { Button } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { api, ok } from "../../api/client";
import { date } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";

/** The keys that sign a letterhead's mail, and the DNS record that each needs. */
export function SigningKeys({ letterhead }: { letterhead: number }) {
  const path = { id: letterhead };
  const keys = useQuery({
    queryKey: ["keys", letterhead],
    queryFn: () => ok(api.GET("/api/letterheads/{id}/keys", { params: { path } })),
  });
  const act = useMutation({
    mutationFn: async (a: { what: "make"; algorithm: string } | { what: "publish" | "end"; key: number }) => {
      if (a.what === "make")
        await ok(api.POST("/api/letterheads/{id}/keys", { params: { path }, body: { algorithm: a.algorithm } }));
      else if (a.what === "publish")
        await ok(api.POST("/api/letterheads/{id}/keys/{key}/publish", { params: { path: { ...path, key: a.key } } }));
      else await ok(api.DELETE("/api/letterheads/{id}/keys/{key}", { params: { path: { ...path, key: a.key } } }));
    },
  });
  return (
    <>
      <h2>Signing (DKIM)</h2>
      <Loaded query={keys}>
        {(all) => {
          const used = all.filter((k) => !k.ended_at);
          return (
            <>
              {used.length === 0 && (
                <p className="soft">
                  Mail goes out unsigned; large hosts refuse bulk mail without a signature. Make a key, and give its
                  record to the person who keeps the domain.
                </p>
              )}
              {used.map((k) => (
                <div key={k.id} style={{ borderTop: "1px solid var(--rule)", padding: "8px 0" }}>
                  <p style={{ margin: 0 }}>
                    <b>{k.selector}</b>, {k.algorithm === "rsa" ? "RSA, 2,048 bits" : "Ed25519"}, made {date(k.made_at)}
                    :{" "}
                    {k.found === true ? (
                      <span>its record is in DNS.</span>
                    ) : k.found === false ? (
                      <span className="bad">its record isn't in DNS yet, so nothing can be planned.</span>
                    ) : (
                      <span className="soft">Rinse asks no DNS here: check the record by hand.</span>
                    )}
                  </p>
                  <p className="small soft" style={{ margin: "4px 0" }}>
                    TXT at {k.record_name}
                  </p>
                  <pre
                    className="scroll small"
                    tabIndex={0}
                    style={{ whiteSpace: "pre-wrap", overflowWrap: "anywhere" }}
                  >
                    {k.record}
                  </pre>
                  <div style={{ display: "flex", gap: 14 }}>
                    <button className="plain small" onClick={() => void navigator.clipboard.writeText(k.record)}>
                      Copy the record
                    </button>
                    {k.can_publish && (
                      <button className="plain small" onClick={() => act.mutate({ what: "publish", key: k.id })}>
                        Publish it in the stand-in DNS
                      </button>
                    )}
                    <button className="plain small" onClick={() => act.mutate({ what: "end", key: k.id })}>
                      End this key
                    </button>
                  </div>
                </div>
              ))}
              <div className="acts">
                {(
                  [
                    ["rsa", "an RSA"],
                    ["ed25519", "an Ed25519"],
                  ] as const
                ).map(([algorithm, words]) => (
                  <Button
                    key={algorithm}
                    variant="outlined"
                    disabled={act.isPending}
                    onClick={() => act.mutate({ what: "make", algorithm })}
                  >
                    Make {words} key
                  </Button>
                ))}
              </div>
              {all.length > used.length && (
                <p className="soft small">
                  Ended:{" "}
                  {all
                    .filter((k) => k.ended_at)
                    .map((k) => `${k.selector} (${date(k.ended_at)})`)
                    .join(", ")}
                  .
                </p>
              )}
            </>
          );
        }}
      </Loaded>
      <Failure error={act.error} />
    </>
  );
}

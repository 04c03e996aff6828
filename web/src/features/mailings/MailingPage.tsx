import { useQuery } from "@tanstack/react-query";
import { useParams, useSearchParams } from "react-router";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { Loaded } from "../../shared/states";
import { Companions } from "./Companions";
import { draftOf, emptyDraft, emptyText } from "./draft";
import { Editor } from "./Editor";
import { OnItsWay } from "./OnItsWay";
import { useMailingSlips } from "./useMailingSlips";

export function MailingPage() {
  const param = useParams().id;
  const byText = useSearchParams()[0].get("by") === "text";
  const { slips } = useMailingSlips();
  const fresh = param === "new";
  const id = Number(param);
  const mailing = useQuery({
    queryKey: ["mailing", id],
    queryFn: () => ok(api.GET("/api/mailings/{id}", { params: { path: { id } } })),
    enabled: !fresh,
  });
  return (
    <Frame slips={slips}>
      {fresh ? (
        <Editor
          key={byText ? "new text" : "new"}
          from={byText ? emptyText : emptyDraft}
          id={null}
          version={0}
          labels={[]}
          series={null}
          hours={null}
        />
      ) : (
        <Loaded query={mailing}>
          {(m) =>
            m.state === "draft" ? (
              <Editor
                key={m.id}
                from={draftOf(m)}
                id={m.id}
                version={m.version}
                labels={m.labels}
                series={m.series_id ?? null}
                hours={m.hour_trial_id ?? null}
                beside={<Companions m={m} />}
              />
            ) : (
              <OnItsWay key={m.id} m={m} />
            )
          }
        </Loaded>
      )}
    </Frame>
  );
}

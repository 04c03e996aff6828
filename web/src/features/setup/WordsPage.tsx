import { useQuery } from "@tanstack/react-query";
import { Frame } from "../../app/Frame";
import { plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { useSetupSlips } from "./useSetupSlips";
import { counted, Words } from "./Words";

/** Custom fields, and labels: made, renamed, deleted, with what depends on them. */
export function WordsPage() {
  const slips = useSetupSlips();
  const words = useQuery(counted);
  return (
    <Frame slips={slips}>
      <Loaded query={words}>
        {(v) => (
          <>
            <div className="crumb">
              <span>Setup</span>
              <span>fields and labels</span>
            </div>
            <h1>Fields and labels</h1>
            <p className="finding">
              People have <em>{plural(v.fields.length, "field")}</em> of your own; mailings, trials and series carry{" "}
              {plural(v.labels.length, "label")}.
            </p>
            <Words word="field" title="Fields" help="What is known of each person." rows={v.fields} />
            <Words
              word="label"
              title="Labels"
              help="What you call mailings, trials and series by, to find them again and to tell them together."
              rows={v.labels}
            />
          </>
        )}
      </Loaded>
    </Frame>
  );
}

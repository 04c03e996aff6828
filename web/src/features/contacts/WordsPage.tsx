import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { Frame } from "../../app/Frame";
import { plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { counted, Words } from "../setup/Words";
import { useContactSlips } from "./useContactSlips";

/** Lists and tags: made, renamed, merged, deleted, with what depends on them. */
export function WordsPage() {
  const slips = useContactSlips();
  const words = useQuery(counted);
  return (
    <Frame slips={slips}>
      <Loaded query={words}>
        {(v) => (
          <>
            <div className="crumb">
              <span>Contacts</span>
            </div>
            <h1>Lists and tags</h1>
            <p className="finding">
              People are on <em>{plural(v.lists.length, "list")}</em> and carry {plural(v.tags.length, "tag")}.
            </p>
            <Words word="list" title="Lists" help="What people joined." rows={v.lists} />
            <Words word="tag" title="Tags" help="What you noted about them." rows={v.tags} />
            <p className="soft small">
              <Link to="/setup/words">Fields of your own, and labels</Link> stand in Setup.
            </p>
          </>
        )}
      </Loaded>
    </Frame>
  );
}

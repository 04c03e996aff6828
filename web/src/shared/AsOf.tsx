import { asOf } from "../api/client";
import { instant } from "./format";

/** Of what takes seconds to count: since when it stands, where it isn't of now. */
export function AsOf({ of }: { of: string }) {
  const at = asOf.get(of);
  return at ? (
    <p className="soft small">As of {instant(at)} UTC. Counting it takes long: it is done again beside.</p>
  ) : null;
}

import { Link, Navigate } from "react-router";
import { Frame } from "../../app/Frame";
import { useClearanceSlips } from "./useClearanceSlips";

/** Opens the first coming mailing's sluice. */
export function ClearanceHome() {
  const { slips, first, ready } = useClearanceSlips();
  if (first !== undefined) return <Navigate to={`/clearance/${first}`} replace />;
  return (
    <Frame slips={slips}>
      {ready && (
        <>
          <h1>Clearance</h1>
          <p className="finding">No mailing is coming, so there is nobody to clear.</p>
          <p className="soft">Write a mailing and its sluice shows here: who gets it, who doesn't, and why.</p>
          <Link to="/mailings/new">Write a mailing</Link>
        </>
      )}
    </Frame>
  );
}

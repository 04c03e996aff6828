import { Link } from "react-router";
import { Frame } from "../../app/Frame";
import { useSetupSlips } from "./useSetupSlips";
import { Goals } from "./Goals";

/** What counts as a conversion, and what it is put down to. */
export function GoalsPage() {
  const slips = useSetupSlips();
  return (
    <Frame slips={slips}>
      <div className="crumb">
        <span>Setup</span>
        <span>goals and attribution</span>
      </div>
      <h1>What counts as a conversion</h1>
      <Goals />
      <p className="soft small">
        What mailings brought towards them: <Link to="/findings/revenue">Revenue</Link>.
      </p>
    </Frame>
  );
}

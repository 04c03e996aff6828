import { Button } from "@mui/material";
import { Component, type ReactNode } from "react";
import { Frame } from "./Frame";

/** Shows its page, or what stands in its place when it can't be shown: its script didn't come, or it broke. */
export class Trouble extends Component<{ at: string; children: ReactNode }, { error: unknown; at: string }> {
  override state = { error: null as unknown, at: this.props.at };

  static getDerivedStateFromError(error: unknown) {
    return { error };
  }

  /** Another page isn't the one that broke. */
  static getDerivedStateFromProps(props: { at: string }, state: { at: string }) {
    return props.at === state.at ? null : { error: null, at: props.at };
  }

  override render() {
    const { error } = this.state;
    if (error === null) return this.props.children;
    const script = error instanceof TypeError && /import|module|fetch/i.test(error.message);
    return (
      <Frame slips={[]}>
        <h1>{script ? "This page didn’t come" : "This page broke"}</h1>
        <p className="finding">
          {script
            ? "Rinse was updated, or has ended, since this tab was opened. Load the page again."
            : "Nothing you saved is lost. Load the page again; if it stays, report what you did last."}
        </p>
        <Button variant="contained" onClick={() => location.reload()}>
          Load it again
        </Button>
      </Frame>
    );
  }
}

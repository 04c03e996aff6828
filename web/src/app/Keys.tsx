import { Dialog, DialogContent, DialogTitle } from "@mui/material";
import { STATIONS } from "./stations";

/** The keys there are. */
export default function Keys({ close }: { close: () => void }) {
  return (
    <Dialog open onClose={close}>
      <DialogTitle>Keys</DialogTitle>
      <DialogContent>
        <dl className="facts">
          {STATIONS.map((s, i) => [
            <dt key={s.path}>
              <kbd>{i + 1}</kbd>
            </dt>,
            <dd key={s.name}>{s.name}</dd>,
          ])}
          <dt>
            <kbd>/</kbd>
          </dt>
          <dd>Find a person</dd>
          <dt>
            <kbd>i</kbd>
          </dt>
          <dd>Import a file</dd>
          <dt>
            <kbd>n</kbd>
          </dt>
          <dd>New mailing</dd>
          <dt>
            <kbd>s</kbd>
          </dt>
          <dd>Setup</dd>
          <dt>
            <kbd>Esc</kbd>
          </dt>
          <dd>Close the working</dd>
          <dt>
            <kbd>?</kbd>
          </dt>
          <dd>This list</dd>
        </dl>
      </DialogContent>
    </Dialog>
  );
}

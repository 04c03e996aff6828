import { Button } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { everything } from "../../api/cache";
import { api, ok, type Schemas } from "../../api/client";
import { count, instant, plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure } from "../../shared/states";
import { useProgress } from "../../shared/useProgress";
import { useWorking } from "../../shared/working";

type ChangeRun = Schemas["ChangeRun"];

/** The way back from a run of changes: asked first, then followed until it is done. */
export function TakeBack({ run }: { run: ChangeRun }) {
  const { show } = useWorking();
  const progress = useProgress(`change-${run.id}`, everything, run.state === "undoing");
  const undo = useMutation({
    mutationFn: () => ok(api.POST("/api/changes/{id}/undo", { params: { path: { id: run.id } } })),
    onSuccess: () => {
      show(null);
    },
  });
  if (run.state === "undone")
    return (
      <span className="soft">
        taken back {instant(run.undone_at)}: {count(run.undone)} as before
        {run.kept > 0 && `, ${count(run.kept)} left because something happened to them since`}
      </span>
    );
  if (run.state === "undoing")
    return <span className="soft">taking back … {count(progress?.done ?? run.undone + run.kept)}</span>;
  if (!run.undoable) return <span className="soft">older than 30 days</span>;
  const ask = () =>
    show({
      title: `Take back: ${run.words}?`,
      body: (
        <>
          <p>
            {plural(run.people, "person", "people")} will be as they were before, with an entry in their history. Those
            to whom something happened since (mail, an answer, a purchase, a change) stay as they are and are counted.
          </p>
          <Button variant="outlined" color="error" onClick={() => undo.mutate()}>
            Take it back
          </Button>
        </>
      ),
    });
  return (
    <>
      <button className="plain" onClick={ask}>
        Take back<span className="away"> {run.words}</span>
      </button>
      <Failure error={undo.error} />
    </>
  );
}

/** Runs of changes, the newest first. */
export function Changes({ runs }: { runs: ChangeRun[] }) {
  if (runs.length === 0) return <p className="soft">Nothing was changed in one go yet.</p>;
  return (
    <DataTable
      name="Changes of many people"
      rows={runs}
      id={(r) => r.id}
      columns={(col) => [
        col.when("When", (r) => r.at),
        col.text("What", (r) => r.words),
        col.text("Who", (r) => r.person ?? "–"),
        col.number("People", (r) => r.people),
        col.acts((r) => <TakeBack run={r} />),
      ]}
    />
  );
}

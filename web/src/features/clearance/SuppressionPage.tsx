import { Button, Table, TableBody, TableCell, TableHead, TableRow, TextField } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { date, plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { useClearanceSlips } from "./useClearanceSlips";

export function SuppressionPage() {
  const { slips } = useClearanceSlips();
  const client = useQueryClient();
  const lines = useQuery({ queryKey: ["suppression"], queryFn: () => ok(api.GET("/api/suppression")) });
  const [text, setText] = useState("");
  const [reason, setReason] = useState("");
  const add = useMutation({
    mutationFn: () => ok(api.POST("/api/suppression", { body: { lines: text, reason } })),
    onSuccess: () => {
      setText("");
      setReason("");
      return client.invalidateQueries();
    },
  });
  const remove = useMutation({
    mutationFn: (line: string) => ok(api.DELETE("/api/suppression/{text}", { params: { path: { text: line } } })),
    onSuccess: () => client.invalidateQueries(),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={lines}>
        {(all) => (
          <>
            <div className="crumb">
              <span>For all mail</span>
            </div>
            <h1>Suppression list</h1>
            <p className="finding">
              <em>{plural(all.length, "line")}</em> {all.length === 1 ? "bars" : "bar"} addresses and domains from every
              mailing.
            </p>
            <div className="fields">
              <TextField
                label="Addresses or domains, one a line"
                multiline
                minRows={2}
                value={text}
                onChange={(e) => setText(e.target.value)}
                helperText="someone@tern.example, tern.example, or *.tern.example for its subdomains too"
              />
              <TextField label="Reason" value={reason} onChange={(e) => setReason(e.target.value)} />
            </div>
            <Failure error={add.error ?? remove.error} />
            <div className="acts">
              <Button variant="contained" disabled={!text.trim() || add.isPending} onClick={() => add.mutate()}>
                Bar them
              </Button>
            </div>
            <Table>
              <TableHead>
                <TableRow>
                  <TableCell>Line</TableCell>
                  <TableCell>Reason</TableCell>
                  <TableCell>Since</TableCell>
                  <TableCell />
                </TableRow>
              </TableHead>
              <TableBody>
                {all.map((l) => (
                  <TableRow key={l.text}>
                    <TableCell>{l.text}</TableCell>
                    <TableCell>{l.reason}</TableCell>
                    <TableCell>{date(l.added_at)}</TableCell>
                    <TableCell className="num">
                      <button
                        className="plain"
                        onClick={() => remove.mutate(l.text)}
                        aria-label={`Take off: ${l.text}`}
                      >
                        Take off
                      </button>
                    </TableCell>
                  </TableRow>
                ))}
              </TableBody>
            </Table>
          </>
        )}
      </Loaded>
    </Frame>
  );
}

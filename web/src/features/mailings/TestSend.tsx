import { Button, TextField } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { Failure } from "../../shared/states";

type Props = {
  body: Omit<Schemas["Try"], "to">;
  placeholder: string;
  /** Can a test go there? */
  ready: (to: string) => boolean;
  children?: ReactNode;
};

/** Sends a draft to somebody of the team, with real values. */
export function TestSend({ body, placeholder, ready, children }: Props) {
  const [to, setTo] = useState("");
  const test = useMutation({ mutationFn: () => ok(api.POST("/api/message-test", { body: { ...body, to } })) });
  return (
    <>
      <div style={{ display: "flex", gap: 10, alignItems: "center", marginTop: 10 }}>
        <TextField
          label="Send a test to"
          value={to}
          placeholder={placeholder}
          slotProps={{ inputLabel: { shrink: true } }}
          onChange={(e) => setTo(e.target.value)}
        />
        <Button
          variant="outlined"
          style={{ whiteSpace: "nowrap", flexShrink: 0 }}
          disabled={test.isPending || !ready(to)}
          onClick={() => test.mutate()}
        >
          Send the test
        </Button>
        {children}
      </div>
      {test.data && (
        <p className={test.data.accepted ? "note good" : "note bad"} role="status">
          {test.data.accepted
            ? "The test was handed over"
            : test.data.put_off
              ? "The test was put off"
              : "The test was refused"}
          : {test.data.reply}.{" "}
          {test.data.put_off ? "Send it again in some minutes." : "No figure counts what is done with it."}
        </p>
      )}
      <Failure error={test.error} />
    </>
  );
}

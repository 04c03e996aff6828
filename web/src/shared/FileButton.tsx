import { Button } from "@mui/material";
import { type ReactNode, useRef } from "react";

type Props = {
  /** What the file is, for those who can't see the button. */
  label: string;
  accept: string;
  variant: "contained" | "outlined";
  busy: boolean;
  onFile: (file: File) => void;
  children: ReactNode;
};

/** A button that asks for a file. */
export function FileButton({ label, accept, variant, busy, onFile, children }: Props) {
  const file = useRef<HTMLInputElement>(null);
  return (
    <>
      <Button variant={variant} disabled={busy} onClick={() => file.current?.click()}>
        {children}
      </Button>
      <input
        ref={file}
        type="file"
        aria-label={label}
        hidden
        accept={accept}
        onChange={(e) => e.target.files?.[0] && onFile(e.target.files[0])}
      />
    </>
  );
}

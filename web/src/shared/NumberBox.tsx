import { useState } from "react";

/** A number as it is typed: a lone minus or nothing at all is no number yet, and isn't put right under one's fingers. */
export function NumberBox({
  label,
  value,
  onChange,
  min,
  max,
}: {
  label: string;
  value: number;
  onChange: (n: number) => void;
  min?: number;
  max?: number;
}) {
  const [text, setText] = useState<string | null>(null);
  return (
    <input
      className="bare"
      type="number"
      aria-label={label}
      style={{ width: 84 }}
      min={min}
      max={max}
      value={text ?? value}
      onChange={(e) => {
        setText(e.target.value);
        if (e.target.value !== "") onChange(Number(e.target.value));
      }}
      onBlur={() => setText(null)}
    />
  );
}

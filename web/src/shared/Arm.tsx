import { letter } from "./format";

/** Disc, triangle, square, diamond, ring, cross. */
const SHAPES = [
  <circle key="a" cx="7" cy="6" r="6" fill="var(--a)" />,
  <path key="b" d="M7,0 L14,12 L0,12Z" fill="var(--b)" />,
  <rect key="c" x="1.5" y="0.5" width="11" height="11" fill="var(--c)" />,
  <path key="d" d="M7,0 L13,6 L7,12 L1,6Z" fill="var(--d)" />,
  <circle key="e" cx="7" cy="6" r="4.5" fill="none" stroke="var(--e)" strokeWidth="3" />,
  <path key="f" d="M2,1 L12,11 M12,1 L2,11" stroke="var(--f)" strokeWidth="3.2" />,
];

/** An arm's mark: letter, shape and colour, always together. */
export function Arm({ index }: { index: number }) {
  return (
    <span style={{ whiteSpace: "nowrap" }}>
      <svg width="14" height="12" aria-hidden="true">
        {SHAPES[index]}
      </svg>{" "}
      {letter(index)}
    </span>
  );
}

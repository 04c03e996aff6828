/** An arm's mark: letter, shape and colour, always together. */
export function Arm({ index }: { index: number }) {
  const letter = String.fromCharCode(65 + index);
  return (
    <span style={{ whiteSpace: "nowrap" }}>
      <svg width="14" height="12" aria-hidden="true">
        {index === 0 ? <circle cx="7" cy="6" r="6" fill="var(--a)" /> : <path d="M7,0 L14,12 L0,12Z" fill="var(--b)" />}
      </svg>{" "}
      {letter}
    </span>
  );
}

import { MarkButton, usePoints } from "./Pointing";

/** LineNumber is the number of a line of the version that is shown, with the marks at it; where one may point, one points at the line with it. */
export function LineNumber({ line }: { line: number }) {
  const points = usePoints();
  const spot = `line ${line}`;
  return (
    <span className="inline-flex items-center justify-end">
      {points.marks
        .filter((m) => m.where === spot)
        .map((m) => (
          <MarkButton key={m.number} mark={m} points={points} />
        ))}
      {points.point ? (
        <button
          type="button"
          aria-label={`Point at line ${line}`}
          aria-pressed={points.spot === spot}
          onClick={() => points.point!(spot)}
          className={`cursor-pointer px-1 hover:text-ink ${points.spot === spot ? "bg-copper text-on-copper" : ""}`}
        >
          {line}
        </button>
      ) : (
        line
      )}
    </span>
  );
}

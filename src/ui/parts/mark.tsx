import type { Outcome, ProtectionState } from "@/core/protection/state";

export type MarkState = ProtectionState | Outcome | "running" | "due";

/** Our mark: a course of masonry, 14 px. The stone says the state; colour only helps. */
export function Mark({
  state,
  share = 0.4,
  label = state,
}: {
  state: MarkState;
  share?: number;
  label?: string;
}) {
  return (
    <svg
      width="14"
      height="14"
      viewBox="0 0 14 14"
      role="img"
      aria-label={label}
      className="inline-block shrink-0 align-[-2px]"
    >
      <title>{label}</title>
      {shape(state, share)}
    </svg>
  );
}

function shape(state: MarkState, share: number) {
  switch (state) {
    case "kept":
    case "clean":
      return <rect x="1" y="3" width="12" height="8" fill="var(--color-primary)" />;
    case "slipping":
    case "caution":
      return <path d="M1 3h8l4 4v4H1z" fill="var(--brass)" />;
    case "exposed":
    case "failed":
      return <path d="M1 3h5l-2 4 2 4H1z M8.5 3H13v8H8l-2-4z" fill="var(--vermilion)" />;
    case "running":
      return (
        <g>
          <rect
            x="1.6"
            y="3.6"
            width="10.8"
            height="6.8"
            fill="none"
            stroke="var(--color-primary)"
            strokeWidth="1.2"
          />
          <rect
            x="1.6"
            y="3.6"
            width={Math.max(0.5, 10.8 * share)}
            height="6.8"
            fill="var(--color-primary)"
          />
        </g>
      );
    case "paused":
    case "stopped":
      return (
        <g>
          <rect
            x="1.6"
            y="3.6"
            width="10.8"
            height="6.8"
            fill="none"
            stroke="var(--slate)"
            strokeWidth="1.2"
          />
          <rect x="1" y="6.2" width="12" height="1.6" fill="var(--slate)" />
        </g>
      );
    default:
      return (
        <rect
          x="1.6"
          y="3.6"
          width="10.8"
          height="6.8"
          fill="none"
          stroke="var(--slate)"
          strokeWidth="1.2"
          strokeDasharray="2 1.6"
        />
      );
  }
}

/** Our sign: courses of masonry going down into the water. */
export function Sign() {
  return (
    <svg width="22" height="22" viewBox="0 0 22 22" aria-hidden="true">
      <g fill="var(--color-primary)">
        <rect x="2" y="3" width="11" height="4" />
        <rect x="14" y="3" width="6" height="4" />
        <rect x="4" y="9" width="6" height="4" />
        <rect x="11" y="9" width="7" height="4" />
      </g>
      <rect x="6" y="15" width="10" height="4" fill="var(--brass)" />
    </svg>
  );
}

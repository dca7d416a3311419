import { useEffect, useRef, type ReactNode } from "react";

/** Kept keeps the keyboard's place: where what had the focus is gone because it was done, what stands there now has it. */
export function Kept({ children, className = "" }: { children: ReactNode; className?: string }) {
  const place = useRef<HTMLSpanElement>(null);
  const within = useRef(false);
  useEffect(() => {
    if (!within.current || document.activeElement !== document.body) return;
    const next = place.current?.querySelector<HTMLElement>("button:not(:disabled), a[href]") ?? place.current;
    next?.focus();
  });
  return (
    <span
      ref={place}
      tabIndex={-1}
      className={`outline-none ${className}`}
      onFocus={() => (within.current = true)}
      onBlur={() => (within.current = false)}
    >
      {children}
    </span>
  );
}

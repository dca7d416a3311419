import { ToggleGroup } from "radix-ui";
import type { ReactNode } from "react";

interface Props<T extends string> {
  label: string;
  options: readonly T[];
  value: T;
  onChange: (v: T) => void;
  /** What is shown of an option, where that is not its name. */
  show?: (option: T) => ReactNode;
}

/** Choice is one of a few things, side by side: by mouse, and with the arrow keys. */
export function Choice<T extends string>({ label, options, value, onChange, show }: Props<T>) {
  return (
    <ToggleGroup.Root
      type="single"
      value={value}
      onValueChange={(v) => v && onChange(v as T)}
      aria-label={label}
      className="inline-flex overflow-hidden rounded-md border border-edge"
    >
      {options.map((o) => (
        <ToggleGroup.Item
          key={o}
          value={o}
          className="flex items-center gap-1.5 px-2.5 py-1 text-sm text-peat hover:text-ink data-[state=on]:bg-stone data-[state=on]:font-semibold data-[state=on]:text-ink"
        >
          {show ? show(o) : o}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}

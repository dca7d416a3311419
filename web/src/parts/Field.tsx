import type { InputHTMLAttributes } from "react";
import { fieldClass } from "./Ask";

/** Field is a line to type in, with its label above it; quiet where it need not be filled. */
export function Field({
  label,
  quiet = false,
  className = "block",
  onType,
  ...input
}: { label: string; quiet?: boolean; onType: (text: string) => void } & Omit<InputHTMLAttributes<HTMLInputElement>, "onChange">) {
  return (
    <label className={className}>
      <span className={`mb-1 block ${quiet ? "text-peat" : "font-medium"}`}>{label}</span>
      <input className={fieldClass} {...input} onChange={(e) => onType(e.target.value)} />
    </label>
  );
}

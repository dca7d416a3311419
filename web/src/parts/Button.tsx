import type { ButtonHTMLAttributes } from "react";

const kinds = {
  act: "bg-copper text-on-copper border-copper hover:brightness-110",
  plain: "bg-transparent text-ink border-edge hover:border-copper",
  quiet: "bg-transparent text-peat border-transparent hover:text-ink hover:border-line",
};

/** Button: act for the one thing that the place is for, plain for the rest, quiet where there are many. */
export function Button({
  kind = "plain",
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { kind?: keyof typeof kinds }) {
  return (
    <button
      type="button"
      className={`inline-flex items-center gap-1.5 rounded-md border px-2.5 py-1 text-sm font-medium whitespace-nowrap transition-colors ${kinds[kind]} ${className}`}
      {...rest}
    />
  );
}

import type { ReactNode } from "react";

/** Porch is around the pages for whoever is not in yet. */
export function Porch({ children }: { children: ReactNode }) {
  return (
    <main className="mx-auto w-full max-w-md px-4 py-[12vh]">
      <p className="mb-6 font-semibold">Kettle Tarn</p>
      {children}
    </main>
  );
}

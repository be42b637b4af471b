import type { ReactNode } from "react";
import { Sign } from "../parts/mark";

/** The card in the middle of an otherwise empty page, for whoever comes by a link. */
export function DoorCard({ children }: { children: ReactNode }) {
  return (
    <main className="grid min-h-dvh place-items-center p-6">
      <div className="bg-base-100 border-base-300 w-[420px] max-w-full border p-7">
        <h1 className="mb-5 flex items-center gap-2 text-xl">
          <Sign /> Deep Keep
        </h1>
        {children}
      </div>
    </main>
  );
}

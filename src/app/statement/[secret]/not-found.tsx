import { Sign } from "@/ui/mark";

/** A link that is over: answered as not found, with what to do. */
export default function NotFound() {
  return (
    <main className="grid min-h-dvh place-items-center p-6">
      <div className="bg-base-100 border-base-300 w-[420px] max-w-full border p-7">
        <h1 className="mb-5 flex items-center gap-2 text-xl">
          <Sign /> Deep Keep
        </h1>
        <p className="warned">
          This link was revoked, or its days are over. Ask whoever sent it for a new one.
        </p>
      </div>
    </main>
  );
}

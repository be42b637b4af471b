"use client";

export default function ViewError({ reset }: { reset: () => void }) {
  return (
    <main className="p-6">
      <div className="refused max-w-[560px]" role="alert">
        <h1 className="mb-1 text-lg">The console could not read this view</h1>
        <p className="mb-3">The database may be restarting. Runs continue in the meantime.</p>
        <button type="button" className="btn btn-plain" onClick={reset}>
          Try again
        </button>
      </div>
    </main>
  );
}

import { CODES } from "@/core/codes";

export const metadata = { title: "All codes" };

/** Every code a person can meet, from the one table; the address of a problem leads to its row. */
export default function Page() {
  return (
    <main className="mx-auto max-w-[900px] p-6 text-[15px]">
      <h1 className="mb-4 text-xl">All codes</h1>
      <dl className="grid gap-4">
        {Object.entries(CODES).map(([code, text]) => (
          <div key={code} id={code} className="border-line border-b pb-3">
            <dt>
              <b>{text.title}</b> <span className="text-soft font-mono text-[13px]">{code}</span>
            </dt>
            <dd>
              {text.cause} {text.remedy} {text.retry ? "Trying again can help." : ""}
            </dd>
          </div>
        ))}
      </dl>
    </main>
  );
}

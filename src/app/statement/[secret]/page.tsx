import { headers } from "next/headers";
import { notFound } from "next/navigation";
import { StatementArticle } from "@/app/views/statement-article";
import { readProvider } from "@/db/clients/clients";
import { statementOfLink } from "@/server/statements/statement-link";
import { Sign } from "@/ui/parts/mark";
import { dayText } from "@/ui/parts/moment";
import { theServices } from "../../console";

export const dynamic = "force-dynamic";
export const metadata = { title: "Statement", referrer: "no-referrer" as const, robots: "noindex" };

/** A statement by its link: whoever has the address reads it, and nothing else. */
export default async function Page({ params }: { params: Promise<{ secret: string }> }) {
  const { secret } = await params;
  const services = theServices();
  const now = services.now();
  const address = (await headers()).get("x-forwarded-for")?.split(",")[0]?.trim() || "127.0.0.1";
  const found = await statementOfLink(services, { actor: "", address, at: now }, secret);
  if (!found) notFound();
  const { statement, until, look } = found;
  const provider = (await services.db.withScope({ role: "system" }, readProvider))?.name ?? "";
  const file = (format: string) => `/api/v1/statement-links/${secret}?format=${format}`;
  return (
    <div className="min-h-dvh">
      <header className="no-print bg-base-100 border-base-300 flex min-h-[52px] flex-wrap items-center gap-x-4 gap-y-1 border-b px-4">
        <Sign />
        <h1 className="text-[15px] font-bold">Statement</h1>
        <span className="text-soft">this link is valid until {dayText(until, statement.zone)}</span>
        <span className="ml-auto flex gap-2">
          <a className="btn btn-plain" href={file("pdf")} download>
            PDF
          </a>
          <a className="btn btn-plain" href={file("csv")} download>
            CSV
          </a>
        </span>
      </header>
      <main>
        <StatementArticle statement={statement} provider={provider} now={now} words={null} look={look} />
      </main>
    </div>
  );
}

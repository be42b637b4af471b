import { redirect } from "next/navigation";
import { homeOf, nobodyYet, visitor } from "../visitor";
import { SignInForm } from "./form";

export const dynamic = "force-dynamic";
export const metadata = { title: "Sign in" };

export default async function Page({ searchParams }: { searchParams: Promise<{ closed?: string }> }) {
  const person = await visitor();
  if (person) redirect(homeOf(person));
  if (await nobodyYet()) redirect("/setup");
  return <SignInForm closed={(await searchParams).closed !== undefined} />;
}

import { redirect } from "next/navigation";
import { nobodyYet } from "../visitor";
import { SetupForm } from "./form";

export const dynamic = "force-dynamic";
export const metadata = { title: "First start" };

export default async function Page() {
  if (!(await nobodyYet())) redirect("/sign-in");
  return <SetupForm zones={Intl.supportedValuesOf("timeZone")} />;
}

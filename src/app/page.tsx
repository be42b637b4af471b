import { redirect } from "next/navigation";
import { homeOf, signedIn } from "./visitor";

export const dynamic = "force-dynamic";

export default async function Page() {
  redirect(homeOf(await signedIn()));
}

import { ConsoleView } from "@/app/views/console-view";
import type { Search } from "@/app/views/view";

export default async function Page({
  params,
  searchParams,
}: {
  params: Promise<{ place: string[] }>;
  searchParams: Promise<Search>;
}) {
  return <ConsoleView segments={(await params).place.map(decodeURIComponent)} search={await searchParams} />;
}

import { ConsoleView, type Search } from "@/app/views/console-view";

export default async function Page({
  params,
  searchParams,
}: {
  params: Promise<{ place: string[] }>;
  searchParams: Promise<Search>;
}) {
  return <ConsoleView segments={(await params).place.map(decodeURIComponent)} search={await searchParams} />;
}

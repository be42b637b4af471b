import { notFound } from "next/navigation";
import { VIEWS, type View } from "@/core/places";
import { type Action, isClientRole, mayDo, type Role } from "@/core/rights/rights";
import { readProvider } from "@/db/clients/clients";
import { resolvePlace } from "@/server/depots/place";
import { Bench } from "@/ui/frame/bench";
import { ScopeName } from "@/ui/frame/scope-names";
import { theServices } from "../console";
import { asVisitor, sessionId, signedIn } from "../visitor";
import { VIEW_MAKERS } from "./makers";
import type { Search, ViewInput } from "./view";

/** What a person must have a right to, to see a view. */
const RIGHT_TO: Readonly<Record<View, Action>> = {
  watch: "look",
  sources: "look",
  policies: "look",
  depots: "look",
  runs: "look",
  restore: "open",
  statements: "statement",
  trail: "look",
};
export const viewsOf = (role: Role): readonly View[] => VIEWS.filter((view) => mayDo(role, RIGHT_TO[view]));

/** Any view at any scope. */
export async function ConsoleView({ segments, search }: { segments: readonly string[]; search: Search }) {
  const person = await signedIn();
  const portal = isClientRole(person.role);
  const output = await asVisitor(async (tx) => {
    const place = await resolvePlace(tx, segments);
    if (!place || !mayDo(person.role, RIGHT_TO[place.view]) || (portal && !place.client)) return null;
    const ask = (name: string): string | undefined => {
      const value = search[name];
      return (Array.isArray(value) ? value[0] : value) || undefined;
    };
    const href: ViewInput["href"] = (change) => {
      const values = new URLSearchParams();
      for (const name of new Set([...Object.keys(search), ...Object.keys(change)])) {
        const value = name in change ? change[name] : ask(name);
        if (value) values.set(name, value);
      }
      const query = values.toString();
      return `${place.base}/${place.view}${query ? `?${query}` : ""}`;
    };
    const provider = (await readProvider(tx)) ?? { name: "", zone: "UTC" };
    const made = await VIEW_MAKERS[place.view]({
      tx,
      place,
      now: theServices().now(),
      provider,
      portal,
      person,
      session: await sessionId(),
      ask,
      href,
    });
    return { ...made, place };
  });
  if (!output) notFound();
  const { place, main, docket } = output;
  return (
    <>
      {place.source && <ScopeName base={place.base} name={place.source.name} />}
      <Bench docket={docket}>{main}</Bench>
    </>
  );
}

"use client";

import { useCallback, useEffect, useState } from "react";
import { formatRelative } from "@/core/units/duration";
import { callApi } from "../parts/api";
import { AsksToDecide } from "./asks-to-decide";
import { type AllGiven, giftName, plainName } from "./given";
import { Step } from "./help";
import { OwnRestores } from "./own-restores";
import { RestoreFiles } from "./restore-files";

const LOOK_AGAIN_MS = 2000;

/** The portal's one page: what was given, when, what, where to; and what became of it. */
export function PortalRestore({ start, name, manager }: { start: AllGiven; name: string; manager: boolean }) {
  const [given, setGiven] = useState(start);
  const [giftId, setGiftId] = useState(start.gifts[0]?.id ?? null);
  const look = useCallback(async () => setGiven(await callApi<AllGiven>("GET", "/given")), []);
  const going = given.restores.some(({ state }) => state !== "ended");
  useEffect(() => {
    if (!going) return;
    const timer = window.setInterval(() => void look().catch(() => {}), LOOK_AGAIN_MS);
    return () => window.clearInterval(timer);
  }, [going, look]);
  const gift = given.gifts.find(({ id }) => id === giftId) ?? given.gifts[0];
  return (
    <main className="mx-auto grid w-full max-w-[1240px] gap-6 px-4 py-5">
      <h1 className="text-[22px]">Hello {name.split(" ")[0]}, what do you want to restore?</h1>
      {given.gifts.length === 1 && gift && (
        <p className="text-soft -mt-5">
          From {giftName(gift)}
          {gift.pathName !== "/" && `, on ${plainName(gift.sourceName)}`}
          {gift.newest && `, newest recovery point ${formatRelative(new Date(gift.newest), new Date())}`}.
        </p>
      )}
      {manager && <AsksToDecide zone={given.client.zone} decided={look} />}
      {given.gifts.length === 0 ? (
        <p className="said max-w-[640px]">
          Nothing is shared with you yet. Ask your provider for the machine, mailbox or folder that you want
          to restore from.
        </p>
      ) : given.passphraseNeeded ? (
        <p className="warned max-w-[640px]">
          {given.client.name} protects its key with a passphrase, so its files cannot be opened here. Ask your
          provider, who can restore them together with the person who knows the passphrase.
        </p>
      ) : (
        <>
          {given.gifts.length > 1 && (
            <section className="grid gap-2" aria-label="Source">
              <Step
                title="Source"
                help="Your provider shared these with you. Choose the one that held the missing file."
              />
              <div className="flex flex-wrap gap-2">
                {given.gifts.map((one) => (
                  <button
                    key={one.id}
                    type="button"
                    aria-pressed={one.id === gift?.id}
                    className={`border-base-300 rounded-[3px] border px-4 py-2 text-left ${one.id === gift?.id ? "bg-selected border-l-primary border-l-[3px]" : "bg-base-100"}`}
                    onClick={() => setGiftId(one.id)}
                  >
                    <span className="block font-semibold">{giftName(one)}</span>
                    <span className="text-soft block text-[14px]">
                      {one.pathName === "/" ? "" : `on ${plainName(one.sourceName)} · `}
                      {one.newest
                        ? `newest recovery point ${formatRelative(new Date(one.newest), new Date())}`
                        : "no recovery point yet"}
                    </span>
                  </button>
                ))}
              </div>
            </section>
          )}
          {gift && gift.points > 0 ? (
            <RestoreFiles key={gift.id} gift={gift} zone={given.client.zone} asked={look} />
          ) : (
            <p className="said max-w-[640px]">There is no recovery point yet. Look again tomorrow.</p>
          )}
        </>
      )}
      <OwnRestores given={given} look={look} />
    </main>
  );
}

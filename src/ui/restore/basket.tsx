"use client";

import { X } from "lucide-react";
import { useEffect, useState } from "react";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { callApi } from "../parts/api";
import { clockText } from "../parts/moment";

export interface BasketItem {
  readonly pointId: string;
  readonly moment: Date;
  readonly path: string;
  readonly name: string;
  readonly type: "file" | "folder" | "link";
  readonly size: number | null;
}

/** A basket without what lies below a folder at the same moment: the folder brings it along. */
export const withoutBelow = <T extends Pick<BasketItem, "pointId" | "path">>(
  basket: readonly T[],
  pointId: string,
  path: string,
): T[] => {
  const base = path === "/" ? "/" : `${path}/`;
  return basket.filter((item) => item.pointId !== pointId || !item.path.startsWith(base));
};

/** How many files and bytes a basket holds. */
export interface Weight {
  readonly files: number;
  readonly bytes: number;
}

/** What the API takes of a basket. */
export const askedItems = (basket: readonly BasketItem[]) =>
  basket.map(({ pointId, path }) => ({ pointId, path }));

/** The weight of a basket; null while it is measured, or empty. */
export function useWeight(basket: readonly BasketItem[]): Weight | null {
  const [weight, setWeight] = useState<Weight | null>(null);
  const asked = JSON.stringify(askedItems(basket));
  useEffect(() => {
    setWeight(null);
    if (asked === "[]") return;
    let current = true;
    callApi<Weight>("POST", "/restores/weight", { items: JSON.parse(asked) }).then(
      (answer) => current && setWeight(answer),
      () => {},
    );
    return () => {
      current = false;
    };
  }, [asked]);
  return weight;
}

/** From which moment, or from how many, a basket is. */
export function momentsText(basket: readonly BasketItem[], zone: string): string {
  const moments = new Set(basket.map((item) => item.pointId)).size;
  return moments === 1 ? `from ${clockText(basket[0]!.moment, zone)}` : `from ${moments} moments`;
}

/** What was chosen, with what it weighs. */
export function Basket({
  basket,
  setBasket,
  weight,
  zone,
  words,
}: {
  basket: readonly BasketItem[];
  setBasket: (basket: readonly BasketItem[]) => void;
  weight: Weight | null;
  zone: string;
  /** What the kind of source calls what it holds. */
  words: { readonly item: string; readonly items: string };
}) {
  const several = new Set(basket.map((item) => item.pointId)).size > 1;
  const size = weight
    ? `${counted(weight.files, words.item, words.items)}, ${formatBytes(weight.bytes)}`
    : "…";
  return (
    <section aria-label="Basket">
      <h3>
        <b>Basket</b>
        <span className="text-soft">
          {" "}
          ·{" "}
          {basket.length === 0
            ? "empty"
            : `${counted(basket.length, "item")} ${momentsText(basket, zone)}, ${size}`}
        </span>
      </h3>
      {basket.length === 0 && (
        <p className="text-soft mt-1">
          Select {words.items} and folders. They are collected here, also from several recovery points.
        </p>
      )}
      <ul className="max-h-[170px] overflow-y-auto">
        {basket.map((item) => (
          <li
            key={`${item.pointId} ${item.path}`}
            className="border-line flex items-center gap-2 border-b py-[4px]"
          >
            <span className="min-w-0 flex-1 truncate" title={item.path}>
              {item.name}
              {several && <span className="text-soft text-[12.5px]"> {clockText(item.moment, zone)}</span>}
            </span>
            <span className="text-soft whitespace-nowrap">
              {item.type === "folder" ? "folder" : item.size !== null && formatBytes(item.size)}
            </span>
            <button
              type="button"
              className="p-[2px]"
              aria-label={`Remove from basket: ${item.name}`}
              onClick={() => setBasket(basket.filter((one) => one !== item))}
            >
              <X size={13} />
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}

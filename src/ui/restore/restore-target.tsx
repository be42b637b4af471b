"use client";

import { kindOf, type SourceKind } from "@/kinds";
import { TARGETS } from "@/kinds/targets";
import { Basket, useWeight } from "./basket";
import type { TargetProps } from "./target-parts";

/** The basket, where it goes, and what will happen in one sentence before the button. */
export function RestoreTarget(props: Omit<TargetProps, "weight">) {
  const { source, basket, setBasket, zone } = props;
  const weight = useWeight(basket);
  const kind = kindOf(source.kind);
  // of a kind that a newer version wrote: a tree of files
  const Target = TARGETS[kind ? (source.kind as SourceKind) : "files"];
  return (
    <>
      <h2 className="part-title">Where to</h2>
      <Basket
        basket={basket}
        setBasket={setBasket}
        weight={weight}
        zone={zone}
        words={kind ?? { item: "file", items: "files" }}
      />
      <Target {...props} weight={weight} />
    </>
  );
}

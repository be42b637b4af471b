"use client";

import { useEffect, useRef } from "react";

/**
 * A radio button. A click that comes before the page listens checks it in the browser alone, and a second click is no change
 * then: what is checked when the page begins to listen is chosen.
 */
export function Radio({
  name,
  size,
  checked,
  choose,
}: {
  name: string;
  size: "xs" | "sm";
  checked: boolean;
  choose: () => void;
}) {
  const button = useRef<HTMLInputElement>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the page begins to listen
  useEffect(() => {
    if (button.current?.checked && !checked) choose();
  }, []);
  return (
    <input
      ref={button}
      type="radio"
      name={name}
      className={`radio ${size === "xs" ? "radio-xs" : "radio-sm"}`}
      checked={checked}
      onChange={choose}
    />
  );
}

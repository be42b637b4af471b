import { setFlagsFromString } from "node:v8";
import { runInNewContext } from "node:vm";

/**
 * Lets a thread's memory for sealed bytes be freed soon. The cipher gives each of its answers in memory of its own, and
 * the collector lets 64 MiB of that gather before it looks, in each thread; looking is nothing where little else lives.
 */
export function freeEarly(): (bytes: number) => void {
  setFlagsFromString("--expose-gc");
  const collect = runInNewContext("gc") as (options: { readonly type: "minor" }) => void;
  let gathered = 0;
  return (bytes) => {
    gathered += bytes;
    if (gathered < GATHERED_BYTES) return;
    gathered = 0;
    collect({ type: "minor" });
  };
}

const GATHERED_BYTES = 3 * 1024 * 1024;

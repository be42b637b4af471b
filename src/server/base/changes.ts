import { EventEmitter } from "node:events";
import { type ChangeNotice, listenForChanges } from "@/db/base/notify";

/** One listener of the database's changes in a process, told on to all who wait in it. */
export class Changes {
  private readonly emitter = new EventEmitter().setMaxListeners(0);
  private readonly listener;

  constructor(databaseUrl: string) {
    this.listener = listenForChanges(databaseUrl, (notice) => this.emitter.emit("change", notice));
  }

  /** Calls back for every change until the returned function is called. */
  hear(callback: (notice: ChangeNotice) => void): () => void {
    this.emitter.on("change", callback);
    return () => this.emitter.off("change", callback);
  }

  /** Resolves at the next change that fits, or after `ms` milliseconds. */
  wait(
    fits: (notice: ChangeNotice) => boolean,
    ms: number,
    signal?: AbortSignal,
  ): { promise: Promise<void>; cancel(): void } {
    let finish = () => {};
    const promise = new Promise<void>((resolve) => {
      const stop = this.hear((notice) => fits(notice) && finish());
      const timer = setTimeout(() => finish(), ms);
      signal?.addEventListener("abort", () => finish(), { once: true });
      finish = () => {
        clearTimeout(timer);
        stop();
        resolve();
      };
    });
    return { promise, cancel: () => finish() };
  }

  close(): Promise<void> {
    return this.listener.close();
  }
}

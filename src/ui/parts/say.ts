import type { ExternalToast, Toaster } from "sonner";

/** Says in a toast what happened. The library for it is fetched when there is something to say, not before. */
type Kind = "success" | "error" | "info";

let show: ((toaster: typeof Toaster) => void) | null = null;

/** The place where toasts appear registers itself here. */
export const whenToastsAreNeeded = (mount: (toaster: typeof Toaster) => void): void => {
  show = mount;
};

const tell = async (kind: Kind, title: string, options?: ExternalToast): Promise<void> => {
  const { toast, Toaster } = await import("sonner");
  show?.(Toaster);
  show = null;
  // after the place for it is on the page: it hears only what is said from then on
  setTimeout(() => toast[kind](title, options));
};

export const say = {
  success: (title: string, options?: ExternalToast): void => void tell("success", title, options),
  /** Neither done nor refused: what somebody should know. */
  info: (title: string, options?: ExternalToast): void => void tell("info", title, options),
  error: (title: string, options?: ExternalToast): void => void tell("error", title, options),
};

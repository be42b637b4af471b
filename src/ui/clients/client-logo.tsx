/** A client's logo on a plate of paper, so that it is seen on any colour and in both themes. */
export function ClientLogo({ src, name }: { src: string; name: string }) {
  return (
    // biome-ignore lint/performance/noImgElement: a small picture of this console's own API
    <img src={src} alt={name} className="max-h-10 max-w-36 shrink-0 rounded bg-white object-contain p-1" />
  );
}

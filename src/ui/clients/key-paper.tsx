"use client";

import { createPortal } from "react-dom";

export interface MadeKey {
  readonly groups: readonly string[];
  readonly askedGroup: number;
  /** The groups as a QR code, SVG in a data address. */
  readonly qr: string;
  readonly madeAt: string;
}

/** The key sheet as it comes out of a printer: the one thing on the page. On the screen it is not there. */
export function KeyPaper({ clientName, made }: { clientName: string; made: MadeKey }) {
  return createPortal(
    <section className="key-paper" aria-hidden="true">
      <h1>Key sheet of {clientName}</h1>
      <p>
        Made on {made.madeAt.slice(0, 10)}. This key opens every recovery point of {clientName}. It is shown
        once. Store this sheet in a safe place.
      </p>
      <div className="key-paper-body">
        <ol>
          {made.groups.map((group, i) => (
            <li key={group}>
              <span>{i + 1}</span> {group}
            </li>
          ))}
        </ol>
        {/* biome-ignore lint/performance/noImgElement: a picture made for this page alone, in a data address */}
        <img src={made.qr} alt="The same key as a QR code" />
      </div>
      <p>
        Letters and digits are those of Crockford’s Base32: it has no I, L, O or U. The fifth character of
        each group is its check character, so an error is found in its group. The code on the right holds the
        same groups.
      </p>
      <p>
        With a depot and this key alone, files come back without any console:{" "}
        <code>bin/keep open --help</code> says how.
      </p>
      <dl>
        <dt>Kept at</dt>
        <dd />
        <dt>By</dt>
        <dd />
        <dt>Since</dt>
        <dd />
      </dl>
    </section>,
    document.body,
  );
}

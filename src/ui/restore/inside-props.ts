import type { ReactNode } from "react";
import type { TreeEntry } from "./file-tree";

/** What browses a recovery point of a kind is given. */
export interface InsideProps {
  /** Of the point in the API. */
  readonly address: string;
  readonly zone: string;
  readonly inBasket: (entry: TreeEntry) => boolean;
  readonly toggle: (entry: TreeEntry) => void;
  /** Beside the search. */
  readonly aside?: ReactNode;
  /** Off where the step above says it. */
  readonly heading?: boolean;
  /** Shows the versions of a file. */
  readonly look?: (entry: TreeEntry) => void;
  /** The path of the file whose versions are shown. */
  readonly looked?: string | null;
  /** Off where what is inside may be looked at and not saved. */
  readonly download?: boolean;
}

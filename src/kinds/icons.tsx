import { Database, FolderClosed, Library, type LucideIcon, Mail, MonitorDot, Shapes } from "lucide-react";
import { KINDS, type SourceKind } from "./index";

const ICONS: Readonly<Record<SourceKind, LucideIcon>> = {
  files: FolderClosed,
  mail: Mail,
  database: Database,
  guest: MonitorDot,
  library: Library,
};

/** The icon of a kind, with its words for those who do not see it. */
export function KindIcon({ kind, size = 15 }: { kind: string; size?: number }) {
  const known = Object.hasOwn(KINDS, kind) ? (kind as SourceKind) : null;
  const Icon = known ? ICONS[known] : Shapes;
  return (
    <>
      <Icon size={size} className="text-soft shrink-0" aria-hidden />
      <span className="sr-only">{known ? KINDS[known].sources : kind}: </span>
    </>
  );
}

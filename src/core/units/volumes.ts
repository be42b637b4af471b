/** A volume as a machine reports it; sizes in bytes. */
export interface Volume {
  readonly path: string;
  readonly size: number;
  readonly free: number;
}

/** The volume that a path lies on: the one mounted nearest above it; null where none is known. */
export function volumeOf<V extends Volume>(volumes: readonly V[], path: string): V | null {
  const above = volumes.filter(
    (volume) => volume.path === "/" || path === volume.path || path.startsWith(`${volume.path}/`),
  );
  return above.reduce<V | null>(
    (nearest, volume) => (!nearest || volume.path.length > nearest.path.length ? volume : nearest),
    null,
  );
}

/** What a recovery point of a guest contains: its description, the host's own definition of it, and a file for each disk. */
export const DESCRIPTION = "guest.json";
export const DEFINITION = "definition.xml";
/** The file of a disk, by the name that the guest's host has for it, such as `vda`. */
export const diskFile = (name: string): string => `${name}.raw`;
/** Begins the name of everything that we create on a host. */
export const OURS = "deep-keep";

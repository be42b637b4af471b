/** What answers are made of; each operation says its own with these. */

export * from "./clients";
export * from "./common";
export * from "./depots";
export * from "./inside";
export * from "./keys";
export * from "./people";
export * from "./policies";
export * from "./runs";
export * from "./sources";
export * from "./statements";

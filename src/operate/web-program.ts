import { join } from "node:path";

/** How the web is begun: what a view needs is made and forgotten within it, and room for that keeps the collector away. */
export const webProgram = (project: string): readonly string[] => [
  "--max-semi-space-size=32",
  join(project, "dist/web.mjs"),
];

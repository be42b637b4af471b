// Builds the programs beside the web: agent, runner, keep, start, bench.
import { build } from "esbuild";

await build({
  entryPoints: {
    agent: "src/agent/main.ts",
    runner: "src/runs/main.ts",
    keep: "src/operate/keep.ts",
    start: "src/operate/start.ts",
    bench: "src/operate/bench/main.ts",
    "bench-engine": "src/operate/bench/engine.ts",
    "press-worker": "src/store/press/worker.ts",
    "content-worker": "src/sources/content/content-worker.ts",
    "listing-worker": "src/kinds/files/listing-worker.ts",
    "message-worker": "src/kinds/mail/message-worker.ts",
    "placing-worker": "src/kinds/files/placing-worker.ts",
    standins: "src/standins/main.ts",
    viewer: "src/viewings/main.ts",
    web: "src/web/main.ts",
  },
  outdir: "dist",
  outExtension: { ".js": ".mjs" },
  bundle: true,
  platform: "node",
  format: "esm",
  target: "node20",
  packages: "external",
  jsx: "automatic",
  // outside of the web, Node wants the files by their whole names
  alias: Object.fromEntries(
    ["link", "navigation", "dynamic"].map((name) => [`next/${name}`, `next/${name}.js`]),
  ),
  sourcemap: true,
  logLevel: "warning",
});

// Which part may import which. The map is in CONTRIBUTING.md; bin/test runs this.
const only = (name, from, allowed, comment) => ({
  name,
  severity: "error",
  comment,
  from: { path: `^src/${from}/`, pathNot: "\\.test\\.tsx?$" },
  to: { path: "^src/", pathNot: `^src/(${[from, ...allowed].join("|")})/` },
});

module.exports = {
  forbidden: [
    only("core-is-pure", "core", [], "core computes: plain data in, plain data out"),
    {
      name: "core-without-node",
      severity: "error",
      from: { path: "^src/core/", pathNot: "\\.test\\.ts$" },
      to: { dependencyTypes: ["core"] },
    },
    only("store", "store", ["core"], "the store knows computation only"),
    only("sources", "sources", ["core", "store"], "readers and writers know the store's entries"),
    only("db", "db", ["core"], "queries know types of the core"),
    only("server", "server", ["core", "store", "db"], "what web and runner share; it starts no run"),
    only(
      "runs",
      "runs",
      ["core", "store", "sources", "db", "server", "agent"],
      "the life of a run; the runner executes with the agent's own code",
    ),
    only("viewings", "viewings", ["core", "store", "db", "server"], "reading inside points, over another protocol"),
    only("web", "web", ["store"], "the door before pages and API"),
    only("standins", "standins", ["core"], "the outside world knows nothing of us"),
    only("agent", "agent", ["core", "store", "sources"], "the agent knows neither database nor server"),
    only(
      "app",
      "app",
      ["core", "store", "db", "server", "runs", "ui"],
      "pages and API: no agent, no reader of a source, no stand-in",
    ),
    only(
      "demo",
      "demo",
      ["core", "store", "db", "server", "runs", "agent", "standins", "app"],
      "the demo uses the API and the agent as everybody does",
    ),
    only(
      "operate",
      "operate",
      ["core", "store", "sources", "db", "server", "runs", "agent", "standins", "demo", "app"],
      "programs of the operator: start, keep, bench",
    ),
    { name: "nobody-imports-operate", severity: "error", from: { path: "^src/", pathNot: "^src/operate/" }, to: { path: "^src/operate/" } },
    {
      name: "only-operate-imports-the-demo",
      severity: "error",
      from: { path: "^src/", pathNot: "^src/(operate|demo)/" },
      to: { path: "^src/demo/" },
    },
    only("ui", "ui", ["core"], "the interface never sees the database"),
    { name: "no-circles", severity: "error", from: { path: "^src/" }, to: { circular: true } },
  ],
  options: {
    doNotFollow: { path: "node_modules" },
    tsConfig: { fileName: "tsconfig.json" },
    tsPreCompilationDeps: true,
    enhancedResolveOptions: { extensions: [".ts", ".tsx", ".js"] },
    exclude: { path: "\\.next|dist" },
  },
};

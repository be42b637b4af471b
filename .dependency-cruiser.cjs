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
    only("server", "server", ["core", "store", "db", "runs"], "what web and runner share"),
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

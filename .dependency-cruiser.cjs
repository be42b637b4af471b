// Which part may import which. The map is in CONTRIBUTING.md; bin/test runs this.
const only = (name, from, allowed, comment) => ({
  name,
  severity: "error",
  comment,
  from: { path: `^src/${from}/`, pathNot: "\\.test\\.tsx?$" },
  to: { path: "^src/", pathNot: `^src/(${[from, ...allowed].join("|")})/` },
});

// data of the kinds: words, schemas
const KIND_DATA = "^src/kinds/((index|kind|what|connecting|connection-base|settings)\\.ts|[a-z]+/(kind|settings|what|connecting|address)\\.ts)";
const onlyWithKinds = (...rule) => {
  const made = only(...rule);
  return { ...made, to: { ...made.to, pathNot: `${made.to.pathNot}|${KIND_DATA}` } };
};

module.exports = {
  forbidden: [
    {
      ...only("core-is-pure", "core", [], "core computes: plain data in, plain data out"),
      to: { path: "^src/", pathNot: `^src/core/|${KIND_DATA}` },
    },
    {
      name: "kind-data-is-pure",
      severity: "error",
      comment: "what core, database and browser read of the kinds has no I/O",
      from: { path: KIND_DATA },
      to: { path: "^src/", pathNot: `^src/core/|${KIND_DATA}` },
    },
    {
      name: "kinds",
      severity: "error",
      comment: "a kind knows its own folder, the shared interfaces, the engine and the interface's parts",
      from: { path: "^src/kinds/([a-z]+)/", pathNot: "\\.test\\.tsx?$" },
      to: {
        path: "^src/",
        pathNot: "^src/(core|store|sources|disks|ui/(parts|clients|restore))/|^src/kinds/($1/|(kind|network|what-form|connection-base|transport)\\.ts)",
      },
    },
    {
      name: "only-registries-import-kinds",
      severity: "error",
      comment: "agents read files themselves: their registry comes with the second kind that they read",
      from: { path: "^src/", pathNot: "^src/(kinds|agent|operate|runs/drills|sources/content|ui/frame/lazy)|\\.test\\.tsx?$" },
      to: { path: "^src/kinds/[a-z]+/", pathNot: "^src/kinds/[a-z]+/(kind|settings|what)\\.ts" },
    },
    {
      name: "core-without-node",
      severity: "error",
      from: { path: "^src/core/", pathNot: "\\.test\\.ts$" },
      to: { dependencyTypes: ["core"] },
    },
    only("store", "store", ["core"], "the store knows computation only"),
    only("disks", "disks", ["core", "store"], "block devices: NBD, images, and disks of recovery points"),
    onlyWithKinds("sources", "sources", ["core", "store"], "readers and writers know the store's entries"),
    onlyWithKinds("db", "db", ["core"], "queries know types of the core"),
    onlyWithKinds("server", "server", ["core", "store", "disks", "db"], "what web and runner share; it starts no run"),
    only(
      "runs",
      "runs",
      ["core", "store", "sources", "kinds", "db", "server", "agent"],
      "the life of a run; the runner executes with the agent's own code",
    ),
    only("viewings", "viewings", ["core", "store", "db", "server"], "reading inside points, over another protocol"),
    only("web", "web", ["store"], "the door before pages and API"),
    only("standins", "standins", ["core", "disks"], "the outside world knows nothing of us"),
    only("agent", "agent", ["core", "store", "sources", "kinds"], "the agent knows neither database nor server"),
    only(
      "app",
      "app",
      ["core", "store", "db", "server", "runs", "ui", "kinds"],
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
      ["core", "store", "sources", "disks", "kinds", "db", "server", "runs", "agent", "standins", "demo", "app"],
      "programs of the operator: start, keep, bench",
    ),
    { name: "nobody-imports-operate", severity: "error", from: { path: "^src/", pathNot: "^src/operate/" }, to: { path: "^src/operate/" } },
    {
      name: "only-operate-imports-the-demo",
      severity: "error",
      from: { path: "^src/", pathNot: "^src/(operate|demo)/" },
      to: { path: "^src/demo/" },
    },
    only("ui", "ui", ["core", "kinds"], "the interface never sees the database"),
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

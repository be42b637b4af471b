/** What a recovery point of a database contains: its dump, its definitions as text, the roles of its server, a catalog. */
export const DUMP = "database.dump";
export const SCHEMA = "schema.sql";
export const GLOBALS = "globals.sql";
export const CATALOG = "catalog.json";

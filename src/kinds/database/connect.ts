import { CodedError } from "@/core/codes";
import { counted } from "@/core/units/duration";
import { trySteps } from "@/store/steps";
import type { FoundSource, NetworkAccess } from "../network";
import { STEPS } from "./connecting";
import { programsFor } from "./programs";
import { DatabaseReader, majorOf } from "./reader";
import { BESIDE, restoreDatabase } from "./restore";
import { DatabaseServer } from "./server";
import type { DatabaseSettings } from "./settings";
import type { DatabaseWhat } from "./what";

export const DATABASE_ACCESS: NetworkAccess<DatabaseSettings, DatabaseWhat> = {
  async test(connection) {
    const server = new DatabaseServer(connection);
    let version = 0;
    let found: FoundSource[] = [];
    const test = await trySteps([
      [STEPS.find, () => server.find().then(() => null)],
      [
        STEPS.signIn,
        async () => {
          version = await server.with(undefined, majorOf);
          return `PostgreSQL ${version}`;
        },
      ],
      [STEPS.program, async () => `pg_dump ${(await programsFor(version)).version}`],
      [
        STEPS.list,
        async () => {
          const { rows } = await server.with(undefined, (session) =>
            session.query<{ name: string }>(
              `select datname as name from pg_database
               where datallowconn and not datistemplate and has_database_privilege(oid, 'connect')
                 and datname !~ $1 order by datname`,
              [BESIDE],
            ),
          );
          if (rows.length === 0)
            throw new CodedError("source.not-allowed", "signed in, but this user may open no database");
          found = rows.map(({ name }) => ({ id: name, name: `${name} on ${server.host}` }));
          return `${counted(found.length, "database")} found`;
        },
      ],
    ]);
    return { ...test, found };
  },
  async open(connection, id, what) {
    return { reader: await DatabaseReader.open(new DatabaseServer(connection), id, what), folders: ["/"] };
  },
  restore: (connection, id, work) => restoreDatabase(new DatabaseServer(connection), id, work),
};

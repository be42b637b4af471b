import { CodedError } from "@/core/codes";
import { counted } from "@/core/units/duration";
import { trySteps } from "@/store/steps";
import { type ByteString, byteString, showBytes } from "@/store/tree/tree";
import type { OpenConnection } from "../connection-base";
import type { FoundSource, NetworkAccess } from "../network";
import { LibraryClient } from "./client";
import { STEPS } from "./connecting";
import { beginGrant, completeGrant, grantSignIn } from "./grant";
import { LibraryReader } from "./reader";
import { restoreLibrary } from "./restore";
import type { LibrarySettings } from "./settings";
import type { LibraryWhat } from "./what";

function clientOf(connection: OpenConnection<LibrarySettings>): LibraryClient {
  const { address, settings, secret } = connection;
  const { auth, user, otherHosts = [] } = settings;
  const basic = `Basic ${Buffer.from(`${user}:${secret}`, "utf8").toString("base64")}`;
  return new LibraryClient({
    address,
    otherHosts,
    signIn: auth === "grant" ? grantSignIn(connection) : async () => basic,
  });
}

/** The folder of a library below the address; empty: the address itself. Ids are paths as they are stored. */
const rootOf = (id: string): ByteString => (id === "" || id === "/" ? "" : byteString(id));

/** The libraries of a folder of the address: each folder in it is one. */
async function librariesIn(client: LibraryClient, folder: string, word: string): Promise<FoundSource[]> {
  const at = `/${folder}`;
  const items = await client.list(byteString(at)).catch((error: unknown) => {
    if (error instanceof CodedError && error.code === "folder.missing")
      throw new CodedError("folder.missing", `the server has no folder ${folder}`);
    throw error;
  });
  return items
    .filter((item) => item.folder)
    .map(({ name }) => ({
      id: `${at}/${Buffer.from(name, "latin1").toString("utf8")}`,
      name: `${showBytes(name)} (${word})`,
    }));
}

export const LIBRARY_ACCESS: NetworkAccess<LibrarySettings, LibraryWhat> = {
  async test(connection) {
    const client = clientOf(connection);
    const { teams, people } = connection.settings;
    let found: FoundSource[] = [];
    const test = await trySteps([
      [
        STEPS.find,
        async () => {
          if (!(await client.look(""))?.folder)
            throw new CodedError("source.unreadable", "the server has no WebDAV folder at this address");
          return null;
        },
      ],
      [
        STEPS.list,
        async () => {
          found = [
            ...(teams ? await librariesIn(client, teams, "team") : []),
            ...(people ? await librariesIn(client, people, "personal") : []),
          ];
          if (!teams && !people) found = [{ id: "/", name: new URL(connection.address).host }];
          if (found.length === 0)
            throw new CodedError("source.not-allowed", "signed in, but this user sees no library");
          return `${counted(found.length, "library", "libraries")} found`;
        },
      ],
    ]);
    return { ...test, found };
  },
  async open(connection, id, what) {
    const client = clientOf(connection);
    const root = rootOf(id);
    if (!(await client.look(root))?.folder)
      throw new CodedError("source.not-allowed", `the server no longer has the library ${id}`);
    return { reader: new LibraryReader(client, root, what), folders: ["/"] };
  },
  restore: (connection, id, work) => restoreLibrary(clientOf(connection), rootOf(id), work),
  grant: { begin: beginGrant, complete: completeGrant },
};

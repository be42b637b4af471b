import { randomBytes } from "node:crypto";
import { appendFileSync, readFileSync, statSync, truncateSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { decodeNode, encodeFolder } from "@/store/tree/tree";
import { freshFolder } from "../../tests/depot";
import { AgentState } from "./state";

const SOURCE = "0b9f3a52-5a0e-4d2a-9a0b-6b1c7f0e2d11";
const root = randomBytes(32);
const child = randomBytes(32);
const node = (name: string) => encodeFolder([{ name, type: "file", mode: 0o644, uid: 0, gid: 0, mtime: 0n }]);

function remembered(): { state: AgentState; file: string } {
  const folder = freshFolder("state");
  const state = new AgentState(folder);
  const memory = state.newTree(SOURCE, null);
  memory.keep(root, node("a"));
  memory.keep(child, node("b"));
  memory.keep(child, node("b"));
  memory.commit(root);
  return { state, file: join(folder, `${SOURCE}.tree`) };
}

describe("what an agent remembers of the last point", () => {
  it("comes back for its root, and for no other", () => {
    const { state } = remembered();
    const tree = state.openTree(SOURCE, root)!;
    expect(decodeNode(tree.bytes(child))).toMatchObject({ kind: "folder", entries: [{ name: "b" }] });
    tree.close();
    expect(state.openTree(SOURCE, randomBytes(32))).toBeNull();
    expect(state.openTree("another", root)).toBeNull();
  });

  it("counts only when it was committed", () => {
    const { state } = remembered();
    const memory = state.newTree(SOURCE, state.openTree(SOURCE, root));
    memory.keep(randomBytes(32), node("c"));
    memory.discard();
    expect(state.openTree(SOURCE, root)).not.toBeNull();
  });

  it("takes unchanged nodes over from the tree before", () => {
    const { state } = remembered();
    const next = randomBytes(32);
    const memory = state.newTree(SOURCE, state.openTree(SOURCE, root));
    memory.keep(next, node("new"));
    memory.keep(child, null);
    memory.commit(next);
    const tree = state.openTree(SOURCE, next)!;
    expect(decodeNode(tree.bytes(child))).toMatchObject({ entries: [{ name: "b" }] });
    expect(() => tree.bytes(root)).toThrow(/lacks a node/);
    tree.close();
  });

  it("is forgotten, not believed, when its file is cut or damaged", () => {
    for (let cut = 0; cut < 90; cut += 7) {
      const { state, file } = remembered();
      truncateSync(file, cut);
      expect(state.openTree(SOURCE, root)).toBeNull();
    }
    const { state, file } = remembered();
    appendFileSync(file, "rubbish");
    expect(state.openTree(SOURCE, root)).toBeNull();
    writeFileSync(file, readFileSync(file).fill(0, 0, 8));
    expect(state.openTree(SOURCE, root)).toBeNull();
  });

  it("lies where others may not read it", () => {
    const { state, file } = remembered();
    state.writeIdentity({
      console: "http://127.0.0.1:1",
      machineId: SOURCE,
      token: "t",
      privateKey: "k",
      name: "n",
      root: "/",
    });
    for (const path of [file, join(state.folder, "identity.json")])
      expect(statSync(path).mode & 0o077).toBe(0);
    expect(state.readIdentity()).toMatchObject({ token: "t" });
    writeFileSync(join(state.folder, "identity.json"), "{");
    expect(() => state.readIdentity()).toThrow(/cannot be read/);
  });
});

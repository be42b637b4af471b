import { afterAll } from "vitest";
import { folderForFile, remove } from "./folders";

// set up before each test file: what it writes is removed when it has ended
const folder = folderForFile();
afterAll(() => remove(folder));

import { expect, it } from "vitest";
import { volumeOf } from "./volumes";

const volume = (path: string) => ({ path, size: 10, free: 5 });

it("a path lies on the volume that is mounted nearest above it", () => {
  const volumes = [volume("/srv"), volume("/"), volume("/srv/films")];
  expect(volumeOf(volumes, "/srv/films/a.mov")?.path).toBe("/srv/films");
  expect(volumeOf(volumes, "/srv/filmstars")?.path).toBe("/srv");
  expect(volumeOf(volumes, "/srv")?.path).toBe("/srv");
  expect(volumeOf(volumes, "/home")?.path).toBe("/");
  expect(volumeOf([volume("/srv")], "/home")).toBeNull();
});

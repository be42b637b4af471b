import { expect, test } from "vitest";
import { summariseDamage } from "./damages";

const day = (n: number) => new Date(Date.UTC(2026, 10, n, 21));
const points = new Map(
  [
    ["a", "quill-lt-04 files", 3],
    ["b", "quill-lt-04 files", 1],
    ["c", "quill-srv-01 files", 2],
  ].map(([id, sourceName, n]) => [
    id as string,
    { id: id as string, sourceName: sourceName as string, moment: day(n as number) },
  ]),
);

test("one cause that touches many points is told once, with whose points and which files", () => {
  const touches = [
    { pointId: "a", path: "/home/rota" },
    { pointId: "b", path: "/home/rota" },
    { pointId: "b", path: "/home/letters" },
    { pointId: "c", path: "/srv/rota" },
    { pointId: "gone", path: "/nobody's" },
  ];
  expect(
    summariseDamage(
      [
        { detail: "a pack is missing", touches: touches.slice(0, 3) },
        { detail: "in no pack any more", touches: touches.slice(1, 2) },
        { detail: "in no pack any more", touches: touches.slice(3) },
      ],
      points,
    ),
  ).toEqual({
    points: 3,
    sources: [
      { name: "quill-lt-04 files", points: 2, oldest: day(1), newest: day(3) },
      { name: "quill-srv-01 files", points: 1, oldest: day(2), newest: day(2) },
    ],
    reasons: [
      { text: "in no pack any more", times: 2 },
      { text: "a pack is missing", times: 1 },
    ],
    paths: ["/home/letters", "/home/rota", "/srv/rota"],
  });
});

test("damage that touches nothing that is known is told all the same", () => {
  expect(summariseDamage([{ detail: "a pack has no end", touches: [] }], points)).toEqual({
    points: 0,
    sources: [],
    reasons: [{ text: "a pack has no end", times: 1 }],
    paths: [],
  });
});

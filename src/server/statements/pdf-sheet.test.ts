import { getDocument } from "pdfjs-dist/legacy/build/pdf.mjs";
import { expect, test } from "vitest";
import { Sheet } from "./pdf-sheet";

async function textOf(lines: readonly string[]): Promise<{ text: string; bytes: number }> {
  const sheet = new Sheet("a4", "Letters", "Lanternfold", new Date("2026-11-26T07:30:00Z"));
  for (const line of lines) sheet.line(line);
  sheet.use("strong", 11);
  for (const line of lines) sheet.line(line);
  const pdf = await sheet.finish("at the foot");
  const document = await getDocument({ data: new Uint8Array(pdf), verbosity: 0 }).promise;
  const content = await (await document.getPage(1)).getTextContent();
  await document.destroy();
  return {
    text: content.items.map((item) => ("str" in item ? item.str : "")).join(""),
    bytes: pdf.length,
  };
}

test("names in Latin, Greek, Cyrillic and Vietnamese letters can be read and copied, in both weights", async () => {
  const lines = [
    "Łódź, Þórshöfn and Čačak",
    "Δωδεκάνησα και Ἀθῆναι",
    "Отчёт для Ґалаґан и Ѓорѓи",
    "Hội đồng Thành phố",
  ];
  const { text } = await textOf(lines);
  for (const line of lines) expect(text.split(line)).toHaveLength(3);
});

test("a character that no face has is a question mark, and costs nobody else anything", async () => {
  expect((await textOf(["made of 漢 here"])).text).toContain("made of ? here");
  const [plain, more] = [await textOf(["plain words"]), await textOf(["plain words Ж"])];
  expect(more.bytes).toBeGreaterThan(plain.bytes);
});

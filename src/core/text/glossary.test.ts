import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import ts from "typescript";
import { describe, expect, it } from "vitest";
import { CODES } from "../codes";

/** Interface text keeps to docs/glossary.md: what it says of things has one word, and technical states technical verbs. */
const glossary = readFileSync("docs/glossary.md", "utf8");
const synonyms = glossary
  .split("\n")
  .filter((line) => line.startsWith("| ") && !line.startsWith("| word"))
  .flatMap((line) => line.split("|")[3]!.split(","))
  .map((word) => word.trim())
  .filter((word) => /^[A-Za-z][A-Za-z' -]+$/.test(word));
const EVERYDAY = [
  "looked after",
  "looks after",
  "take on",
  "taken on",
  "stands here",
  "stands there",
  "stand here",
  "lies there",
  "lies in",
  "lie in",
  "goes on",
  "anew",
  "rubbish",
  "is told",
  "are told",
];
const banned = new RegExp(`\\b(${[...synonyms, ...EVERYDAY].join("|")})\\b`, "i");

interface Said {
  readonly where: string;
  readonly text: string;
}

/** What a component shows: text between tags, and attributes that people read. */
function shownBy(file: string): Said[] {
  const source = ts.createSourceFile(
    file,
    readFileSync(file, "utf8"),
    ts.ScriptTarget.Latest,
    true,
    ts.ScriptKind.TSX,
  );
  const found: Said[] = [];
  const note = (node: ts.Node, text: string) => {
    const { line } = source.getLineAndCharacterOfPosition(node.getStart());
    const said = text.replace(/\s+/g, " ").trim();
    if (/[a-z]{2}/i.test(said)) found.push({ where: `${file}:${line + 1}`, text: said });
  };
  const texts = (node: ts.Node): void => {
    if (ts.isStringLiteral(node) || ts.isNoSubstitutionTemplateLiteral(node)) note(node, node.text);
    else if (ts.isTemplateExpression(node))
      note(node, [node.head.text, ...node.templateSpans.map((span) => span.literal.text)].join(" … "));
    else ts.forEachChild(node, texts);
  };
  const visit = (node: ts.Node): void => {
    if (ts.isJsxText(node)) note(node, node.text);
    else if (
      ts.isJsxAttribute(node) &&
      node.initializer &&
      /^(label|help|placeholder|title|aria-label|done)$/.test(node.name.getText())
    ) {
      texts(node.initializer);
      return;
    } else if (ts.isCallExpression(node) && /^say(\.|$)/.test(node.expression.getText()))
      node.arguments.forEach(texts);
    else if (ts.isJsxExpression(node) && node.expression && ts.isConditionalExpression(node.expression)) {
      const { whenTrue, whenFalse } = node.expression;
      for (const branch of [whenTrue, whenFalse])
        if (ts.isStringLiteral(branch) || ts.isTemplateExpression(branch)) texts(branch);
    }
    ts.forEachChild(node, visit);
  };
  visit(source);
  return found;
}
const components = ["src/ui", "src/app"].flatMap((folder) =>
  readdirSync(folder, { recursive: true, encoding: "utf8" })
    .filter((name) => name.endsWith(".tsx"))
    .map((name) => join(folder, name)),
);
const wrong = (said: readonly Said[]): string[] =>
  said
    .filter(({ text }) => banned.test(text))
    .map(({ where, text }) => `${where}: “${banned.exec(text)![0]}” in “${text}”`);

describe("interface text", () => {
  it("is read from all components, and the glossary has words to hold it against", () => {
    expect(components.length).toBeGreaterThan(80);
    expect(components.flatMap(shownBy).length).toBeGreaterThan(700);
    expect(synonyms).toContain("restore point");
    expect(wrong([{ where: "here", text: "Choose a restore point" }])).toHaveLength(1);
    expect(wrong([{ where: "here", text: "The source is looked after" }])).toHaveLength(1);
  });
  it("has no synonym of a word of the glossary, and no everyday verb for a technical state", () => {
    expect(wrong(components.flatMap(shownBy))).toEqual([]);
  });
  it("nor has any code, its cause or its remedy", () => {
    const said = Object.entries(CODES).flatMap(([code, { title, cause, remedy }]) =>
      [title, cause, remedy].map((text) => ({ where: code, text })),
    );
    expect(wrong(said)).toEqual([]);
  });
});

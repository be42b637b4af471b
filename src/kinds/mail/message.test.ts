import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { freshFolder } from "../../../tests/depot";
import { parseApart } from "./apart";
import { attachmentOf, messageHead, openMessage, safeHtml } from "./message";
import { fitsHead, fitsListing, type MessageSearch, missingWords, parseMessageSearch } from "./search";

const bytes = (text: string) => Buffer.from(text.replaceAll("\n", "\r\n"), "latin1");
const html = (body: string) =>
  bytes(
    `Subject: x\nContent-Type: text/html; charset=utf-8\n\n${Buffer.from(body, "utf8").toString("latin1")}`,
  );

describe("the head of a message", () => {
  it("is decoded: encoded words, groups, odd charsets", async () => {
    const head = await messageHead(
      bytes(
        [
          "From: =?iso-8859-1?Q?Maren_P=E9ll?= <maren@quillmere.example>",
          "To: Desk: ines@lanternfold.example, =?utf-8?B?VG9iaWFzIOKYgg==?= <tobias@lanternfold.example>;",
          "Subject: =?utf-8?Q?Schl=C3=BCssel?=",
          " =?utf-8?Q?_f=C3=BCr_die_T=C3=BCr?=",
          "Date: Fri, 20 Nov 2026 09:30:00 +0100",
          "Message-ID: <1@quillmere.example>",
          "Content-Type: multipart/mixed; boundary=b",
          "",
          "body",
        ].join("\n"),
      ),
    );
    expect(head).toEqual({
      from: "Maren Péll <maren@quillmere.example>",
      to: ["ines@lanternfold.example", "Tobias ☂ <tobias@lanternfold.example>"],
      cc: [],
      subject: "Schlüssel für die Tür",
      sent: "2026-11-20T08:30:00.000Z",
      messageId: "1@quillmere.example",
      attachment: true,
    });
  });

  it.each([
    ["nothing at all", ""],
    ["no head", "\n\nhello"],
    ["bytes", "\x00\xff\xfe\n\n"],
    ["a wrong date", "Date: soon\n\n"],
  ])("of %s is empty, not an error", async (_what, text) => {
    expect(await messageHead(bytes(text))).toMatchObject({ from: "", to: [], sent: null, attachment: false });
  });
});

describe("a hostile message", () => {
  it.each([
    ["a script", "<script>alert(1)</script>"],
    ["a script in a picture", '<img src="x" onerror="alert(1)">'],
    ["a script in a link", '<a href="javascript:alert(1)">hello</a>'],
    ["a script in SVG", '<svg onload="alert(1)"><script>alert(1)</script></svg>'],
    ["a picture of SVG", '<img src="data:image/svg+xml;base64,PHN2ZyBvbmxvYWQ9ImFsZXJ0KDEpIi8+">'],
    ["a page within", '<iframe src="https://track.example"></iframe>'],
    ["a form", '<form action="https://track.example"><input name="password"><button>ok</button></form>'],
    ["an object", '<object data="https://track.example"></object><embed src="https://track.example">'],
    ["a remote picture", '<img src="https://track.example/1.gif">'],
    ["a remote picture without a scheme", '<img src="//track.example/1.gif">'],
    ["several remote pictures", '<img srcset="https://track.example/1.gif 1x">'],
    ["a remote background", '<td background="https://track.example/1.gif">x</td>'],
    ["a remote picture by style", '<p style="background-image:url(https://track.example/1.gif)">x</p>'],
    ["a style of the page", "<style>@import url(https://track.example); body{display:none}</style>"],
    ["a style sheet", '<link rel="stylesheet" href="https://track.example">'],
    ["another base", '<base href="https://track.example">'],
    ["a redirect", '<meta http-equiv="refresh" content="0;url=https://track.example">'],
    [
      "CSS that leaves its box",
      '<div style="position:fixed;top:0;left:0;width:100%;height:100%;z-index:9">x</div>',
    ],
    ["an expression", '<p style="width:expression(alert(1))">x</p>'],
    ["a comment with a page", "<!--[if IE]><script>alert(1)</script><![endif]-->"],
    ["an unclosed tag", '<img src="https://track.example/1.gif" '],
    ["nested tags", "<scr<script>ipt>alert(1)</scr</script>ipt>"],
    ["entities", '<a href="&#106;avascript:alert(1)">x</a>'],
  ])("with %s shows no more than its text", async (_what, body) => {
    const opened = await openMessage(html(`<p>Dear Marrow</p>${body}`), 100);
    expect(opened.html).toContain("Dear Marrow");
    // an address in a title is text to be read, never a place from which something is loaded
    const acting = opened.html!.replaceAll(/title="[^"<>]*"/g, "");
    expect(acting).not.toMatch(
      /<(script|iframe|form|input|button|object|embed|style|link|base|meta|svg|img|a)\b|on\w+\s*=\s*["']|javascript:|url\(|position|expression\(|srcset|background=/i,
    );
    expect(acting).not.toMatch(/(src|href)\s*=/i);
  });

  it("shows pictures that it carries itself, and lists them not as attachments", async () => {
    const opened = await openMessage(
      bytes(
        [
          "Subject: x",
          "Content-Type: multipart/related; boundary=b",
          "",
          "--b",
          "Content-Type: text/html",
          "",
          '<p>logo <img src="cid:logo@x" alt="logo" width="40"></p>',
          "--b",
          "Content-Type: image/png",
          "Content-ID: <logo@x>",
          "Content-Transfer-Encoding: base64",
          "",
          "iVBORw0KGgo=",
          "--b--",
          "",
        ].join("\n"),
      ),
      500,
    );
    expect(opened.html).toContain('<img src="data:image/png;base64,iVBORw0KGgo=" alt="logo" width="40" />');
    expect(opened.attachments).toEqual([]);
  });

  it("with ten thousand nested parts is refused, and says so", async () => {
    const depth = 10_000;
    const text = Array.from(
      { length: depth },
      (_, n) => `Content-Type: multipart/mixed; boundary=b${n}\n\n--b${n}\n`,
    ).join("");
    await expect(openMessage(bytes(text), text.length)).rejects.toMatchObject({ code: "file.unreadable" });
  });

  it("with a body of forty megabytes is shown from its beginning", async () => {
    const body = bytes(`Subject: large\n\n${"word ".repeat(8_000_000)}`);
    const opened = await openMessage(body.subarray(0, 2 * 1024 * 1024), body.length);
    expect(opened).toMatchObject({ subject: "large", cut: true });
    expect(opened.text.length).toBe(512 * 1024);
    const deep = `<b>`.repeat(100_000);
    expect(safeHtml(`<p>text</p>${deep}`).length).toBeLessThan(10_000);
  });
});

describe("parsing apart from the thread that answers", () => {
  /** A thread that does what is written. */
  const thread = (text: string) => {
    const file = join(freshFolder("thread"), "thread.mjs");
    writeFileSync(file, `import { parentPort } from "node:worker_threads";\n${text}`);
    return file;
  };
  const job = { kind: "open", bytes: bytes("Subject: x\n\ny"), size: 14 } as const;

  it("gives the same as parsing here", async () => {
    expect(await parseApart(job, "/nowhere")).toEqual(await openMessage(Buffer.from(job.bytes), 14));
  });
  it("ends a message that takes for ever, and one that takes the thread with it", async () => {
    await expect(parseApart(job, thread("for (;;);"), 300)).rejects.toMatchObject({
      code: "file.unreadable",
      message: expect.stringContaining("longer than 0.3 s"),
    });
    await expect(parseApart(job, thread("throw new Error('lost')"))).rejects.toMatchObject({
      code: "file.unreadable",
    });
  });
});

describe("attachments", () => {
  const letter = bytes(
    [
      "Subject: sheet",
      "Content-Type: multipart/mixed; boundary=b",
      "",
      "--b",
      "Content-Type: text/plain",
      "",
      "see below",
      "--b",
      "Content-Type: text/csv; name=a.csv",
      "Content-Disposition: attachment; filename*=utf-8''%C3%9Cbersicht.csv",
      "Content-Transfer-Encoding: base64",
      "",
      Buffer.from("1;2;3").toString("base64"),
      "--b",
      "Content-Type: application/octet-stream",
      "Content-Disposition: attachment",
      "Content-Transfer-Encoding: base64",
      "",
      Buffer.from("raw").toString("base64"),
      "--b--",
      "",
    ].join("\n"),
  );
  it("are listed with their names and sizes, and come out as they are", async () => {
    expect((await openMessage(letter, letter.length)).attachments).toEqual([
      { name: "Übersicht.csv", type: "text/csv", size: 5 },
      { name: "part 2", type: "application/octet-stream", size: 3 },
    ]);
    expect((await attachmentOf(letter, 0))!.content.toString()).toBe("1;2;3");
    expect((await attachmentOf(letter, 1))!.content.toString()).toBe("raw");
    expect(await attachmentOf(letter, 2)).toBeNull();
  });
});

describe("a search line", () => {
  const day = (text: string) => (/^\d{4}-\d{2}-\d{2}$/.test(text) ? Date.parse(text) : null);
  const parsed = (line: string) => parseMessageSearch(line, day) as MessageSearch;

  it("has terms, quoted words, and plain ones", () => {
    expect(
      parsed(
        'from:Maren to:"desk team" subject:keys has:attachment after:2026-11-01 before:2026-12-01 larger:2MB Quay "side door"',
      ),
    ).toEqual({
      from: ["maren"],
      to: ["desk team"],
      subject: ["keys"],
      words: ["quay", "side door"],
      attachment: true,
      after: Date.parse("2026-11-01"),
      before: Date.parse("2026-12-01"),
      larger: 2_000_000,
      smaller: null,
    });
    // what only looks like a term is a word
    expect(parsed("re:quay 12:30").words).toEqual(["re:quay", "12:30"]);
  });
  it.each([
    ["before:yesterday", /no valid day/],
    ["larger:lots", /no valid size/],
    ["has:wings", /Only has:attachment/],
  ])("%s says what is wrong with it", (line, problem) => {
    expect(parseMessageSearch(line, day)).toEqual({ problem: expect.stringMatching(problem) });
  });
  it("fits by day and size with both bounds, and by head without regard to case or form", () => {
    const search = parsed("after:2026-11-02 before:2026-11-03 larger:10 smaller:20");
    const at = Date.parse("2026-11-02");
    expect([at - 1, at, at + 86_399_999, at + 86_400_000].map((ms) => fitsListing(search, ms, 10))).toEqual([
      false,
      true,
      true,
      false,
    ]);
    expect([9, 10, 19, 20].map((size) => fitsListing(search, at, size))).toEqual([false, true, true, false]);
    const head = {
      from: "Mare\u0301n <m@x.example>",
      to: ["a@x.example"],
      cc: ["Desk <d@x.example>"],
      subject: "KEYS",
    };
    expect(fitsHead(parsed("from:marén to:desk subject:keys"), head)).toBe(true);
    expect(fitsHead(parsed("from:desk"), head)).toBe(false);
    expect(missingWords(parsed("keys quay"), [head.subject])).toEqual(["quay"]);
  });
});

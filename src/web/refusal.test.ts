import { describe, expect, it } from "vitest";
import { refusalOf } from "./refusal";

describe("what is refused at the door", () => {
  it.each(["TRACE", "CONNECT", "PROPFIND", "BREW"])("is the method %s", (method) => {
    const refused = refusalOf({ method, url: "/api/v1/me" });
    expect(refused?.status).toBe(405);
    expect(refused?.headers.allow).toContain("GET");
  });
  it.each(["/api/v1/%", "/%zz", "/%ff", "/c/%E0%A4%A", "/all/watch?filter=%"])("is the address %s", (url) => {
    expect(refusalOf({ method: "GET", url })).toMatchObject({
      status: 400,
      problem: { code: "request.invalid" },
    });
  });
  it("is nothing that the framework or the viewer answers", () => {
    expect(
      refusalOf({ method: "GET", url: "/c/quillmere/restore?path=%2Fhome%2FB%C3%BCro&q=a+b" }),
    ).toBeNull();
    expect(refusalOf({ method: "PROPFIND", url: "/viewings/x/a%20b%FF" })).toBeNull();
  });
});

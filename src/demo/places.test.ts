import { describe, expect, it } from "vitest";
import { withMovedOrigin } from "./places";

describe("a stand-in at another port", () => {
  const moved = (text: string) => withMovedOrigin(text, "http://127.0.0.1:4100", "http://127.0.0.1:5200");

  it("is found there by addresses with and without a path, and by what settings name", () => {
    expect(moved("http://127.0.0.1:4100")).toBe("http://127.0.0.1:5200");
    expect(moved("http://127.0.0.1:4100/pendlewick")).toBe("http://127.0.0.1:5200/pendlewick");
    expect(moved('{"dav":"http://127.0.0.1:4100/dav/{mailbox}/","issuer":"http://127.0.0.1:4100"}')).toBe(
      '{"dav":"http://127.0.0.1:5200/dav/{mailbox}/","issuer":"http://127.0.0.1:5200"}',
    );
  });

  it("leaves those at other ports, also where the digits begin alike", () => {
    for (const other of ["http://127.0.0.1:41000/dav", "http://127.0.0.1:410", "http://127x0.0.1:4100"])
      expect(moved(other)).toBe(other);
  });
});

import { describe, expect, it } from "vitest";
import { lastLine, Problem } from "../src/api/client";

/** An answer that comes in pieces of so many bytes. */
function answer(text: string, size: number) {
  const bytes = new TextEncoder().encode(text);
  const data = new ReadableStream<Uint8Array>({
    start(control) {
      for (let at = 0; at < bytes.length; at += size) {
        control.enqueue(bytes.slice(at, at + size));
      }
      control.close();
    },
  });
  return Promise.resolve({ data, response: new Response() });
}

describe("lines of JSON that come one by one", () => {
  const lines = [{ screen: "Häfen 🚢" }, { screen: "a\nb" }, { screen: "‏خريطة" }];
  const text = lines.map((line) => `${JSON.stringify(line)}\n`).join("");

  it("are told whole, however they are cut", async () => {
    for (const size of [1, 3, 7, 1000]) {
      const told: unknown[] = [];
      expect(await lastLine(answer(text, size), (line) => told.push(line))).toEqual(lines[2]);
      expect(told).toEqual(lines);
    }
  });

  it("leave out one that broke off, and are none where none came", async () => {
    const told: unknown[] = [];
    expect(await lastLine(answer(text.slice(0, -4), 5), (line) => told.push(line))).toEqual(
      lines[1],
    );
    expect(told).toHaveLength(2);
    expect(await lastLine(answer("", 5), () => {})).toBeUndefined();
  });

  it("are a problem where the server says so", async () => {
    const error = { title: "The segment cannot be used.", detail: "Choose another." };
    const refused = Promise.resolve({ error, response: new Response(null, { status: 422 }) });
    await expect(lastLine(refused, () => {})).rejects.toMatchObject(
      new Problem(error.title, 422, error.detail),
    );
  });
});

import { expect, test } from "vitest";
import { droppedFiles } from "../src/views/logs/dropped";

const PORTION = 2;

function file(path: string) {
  const name = path.split("/").at(-1) ?? "";
  return {
    isFile: true,
    isDirectory: false,
    fullPath: path,
    file: (take: (file: File) => void) => take(new File(["x"], name)),
  };
}

/** A folder as browsers give it: its entries in portions, then none. */
function folder(path: string, inner: unknown[]) {
  return {
    isFile: false,
    isDirectory: true,
    fullPath: path,
    createReader: () => {
      const left = [...inner];
      return { readEntries: (take: (some: unknown[]) => void) => take(left.splice(0, PORTION)) };
    },
  };
}

function drop(entries: unknown[], files: File[] = []) {
  const items = entries.map((entry) => ({ webkitGetAsEntry: () => entry }));
  return droppedFiles({ items, files } as unknown as DataTransfer);
}

test("a folder gives all its files, those deep in it too, by name", async () => {
  const deep = folder("/logs/may", [file("/logs/may/b.csv"), file("/logs/may/.hidden")]);
  const top = folder("/logs", [
    file("/logs/c.csv"),
    file("/logs/a.csv"),
    deep,
    file("/logs/.DS_Store"),
    folder("/logs/.git", [file("/logs/.git/config")]),
  ]);
  const found = await drop([top, file("/single.csv")]);
  expect(found.map(({ name }) => name)).toEqual([
    "logs/a.csv",
    "logs/c.csv",
    "logs/may/b.csv",
    "single.csv",
  ]);
  expect(found.every(({ file }) => file instanceof File)).toBe(true);
});

test("files are taken as they are, also where the browser knows no entries", async () => {
  const files = [new File(["x"], "b.csv"), new File(["x"], "a.csv"), new File(["x"], ".c")];
  const found = await drop([null, null, null], files);
  expect(found.map(({ name, file }) => [name, file.name])).toEqual([
    ["a.csv", "a.csv"],
    ["b.csv", "b.csv"],
  ]);
  expect(await drop([])).toEqual([]);
});

import type { NamedFile } from "./useUploads";

/** All files of a drop, those in folders too, by name; hidden ones are left out. */
export async function droppedFiles(data: DataTransfer): Promise<NamedFile[]> {
  const entries = [...data.items].map((item) => item.webkitGetAsEntry?.() ?? null);
  const files = [...data.files];
  const found = entries.some((entry) => entry?.isDirectory)
    ? (await Promise.all(entries.map((entry) => (entry ? filesIn(entry) : [])))).flat()
    : files.map((file) => ({ file, name: file.name }));
  return visible(found);
}

/** The files of a file field; of a folder that was chosen, each with its path. */
export function chosenFiles(list: FileList | null): NamedFile[] {
  return visible(
    [...(list ?? [])].map((file) => ({ file, name: file.webkitRelativePath || file.name })),
  );
}

function visible(files: NamedFile[]): NamedFile[] {
  return files
    .filter(({ name }) => !name.split("/").some((part) => part.startsWith(".")))
    .sort((a, b) => (a.name < b.name ? -1 : 1));
}

async function filesIn(entry: FileSystemEntry): Promise<NamedFile[]> {
  const name = entry.fullPath.replace(/^\//, "");
  if (entry.isFile) {
    const file = await new Promise<File>((resolve, reject) =>
      (entry as FileSystemFileEntry).file(resolve, reject),
    );
    return [{ file, name }];
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const inner: NamedFile[] = [];
  for (;;) {
    // A browser gives the entries of a folder in portions, and none when it has given all.
    const portion = await new Promise<FileSystemEntry[]>((resolve, reject) =>
      reader.readEntries(resolve, reject),
    );
    if (!portion.length) {
      return inner;
    }
    inner.push(...(await Promise.all(portion.map(filesIn))).flat());
  }
}

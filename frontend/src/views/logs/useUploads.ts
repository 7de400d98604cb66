import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useRef, useState } from "react";
import { api, dataOf, Problem, problemOf } from "../../api/client";

/** Files that together are one log, on their way to the server. */
export interface Upload {
  id: number;
  files: string[];
  bytes: number;
  sent: number;
  problem?: Problem;
}

/** Uploads one after the other; with its last file there, each is an import of the server's. */
export function useUploads(app: string) {
  const queries = useQueryClient();
  const [list, setList] = useState<Upload[]>([]);
  const last = useRef(0);
  const queue = useRef(Promise.resolve());

  const change = useCallback((id: number, parts: Partial<Upload> | null) => {
    setList((old) =>
      old.flatMap((one) => (one.id !== id ? [one] : parts ? [{ ...one, ...parts }] : [])),
    );
  }, []);

  const add = useCallback(
    (files: NamedFile[]) => {
      last.current += 1;
      const id = last.current;
      const bytes = files.reduce((sum, { file }) => sum + file.size, 0);
      const names = files.map(({ name }) => name);
      setList((old) => [...old, { id, files: names, bytes, sent: 0 }]);
      queue.current = queue.current.then(async () => {
        try {
          await sendAll(app, files, (sent) => change(id, { sent }));
          change(id, null);
        } catch (problem) {
          change(id, { problem: problem as Problem });
        }
        await queries.invalidateQueries({ queryKey: ["study", app, "logs"] });
      });
    },
    [app, change, queries],
  );
  return { list, add, dismiss: (id: number) => change(id, null) };
}

/** A file, and what it is called: with its folders, where it came in one. */
export interface NamedFile {
  file: File;
  name: string;
}

async function sendAll(app: string, files: NamedFile[], onSent: (bytes: number) => void) {
  const job = await dataOf(
    api.POST("/api/apps/{app}/imports", {
      params: { path: { app } },
      body: { files: files.map(({ file, name }) => ({ name, bytes: file.size })) },
    }),
  );
  let before = 0;
  for (const [number, { file }] of files.entries()) {
    await send(`/api/jobs/${job.id}/files/${number}`, file, (sent) => onSent(before + sent));
    before += file.size;
  }
}

/** By XMLHttpRequest, since only that tells how much of a body has been sent. */
function send(address: string, file: File, onSent: (bytes: number) => void): Promise<void> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("PUT", address);
    request.setRequestHeader("Content-Type", "application/octet-stream");
    request.upload.onprogress = (event) => onSent(event.loaded);
    request.onload = () => {
      if (request.status < 300) {
        resolve();
      } else {
        reject(problemOf(readJson(request.responseText), request.status));
      }
    };
    request.onerror = () =>
      reject(
        new Problem("The upload broke off.", 0, "Is the server still running? Drop it again."),
      );
    request.send(file);
  });
}

function readJson(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return null;
  }
}

import { useRef, useState } from "react";
import { chosenFiles, droppedFiles } from "./dropped";
import type { NamedFile } from "./useUploads";

interface Props {
  onFiles: (files: NamedFile[]) => void;
  first: boolean;
}

/** What is dropped or chosen at once is one log. */
export function DropZone({ onFiles, first }: Props) {
  const [over, setOver] = useState(false);
  const take = (files: NamedFile[]) => files.length && onFiles(files);
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: the buttons within do the same by keyboard
    <div
      className={`drop my-3 ${over ? "over" : ""} ${first ? "py-5" : ""}`}
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={async (event) => {
        event.preventDefault();
        setOver(false);
        take(await droppedFiles(event.dataTransfer));
      }}
    >
      Drop a log here, or choose <Chooser word="files" onFiles={take} /> or{" "}
      <Chooser word="a folder" folder onFiles={take} />
      <div className="small-text soft">
        CSV, JSON Lines or a JSON array, Parquet or XES, plain or packed by gzip or zstd. Several
        files at once become one log.
      </div>
    </div>
  );
}

interface ChooserProps {
  word: string;
  folder?: boolean;
  onFiles: (files: NamedFile[]) => void;
}

function Chooser({ word, folder, onFiles }: ChooserProps) {
  const field = useRef<HTMLInputElement>(null);
  return (
    <>
      <button
        type="button"
        className="figure-button fw-semibold"
        onClick={() => field.current?.click()}
      >
        {word}
      </button>
      <input
        ref={field}
        type="file"
        multiple
        hidden
        data-testid={folder ? "log-folder" : "log-file"}
        {...(folder && { webkitdirectory: "" })}
        onChange={(event) => {
          onFiles(chosenFiles(event.target.files));
          event.target.value = "";
        }}
      />
    </>
  );
}

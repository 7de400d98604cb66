import type { ReactNode } from "react";
import { type KeptKind, useForget, useKeep, useKept, useRename } from "../api/queries";
import { NameForm } from "./NameForm";
import { useMay } from "./role";
import { Trouble } from "./states";

interface Props<Document extends object> {
  app: string;
  kind: KeptKind;
  /** What is open, as it would be kept. */
  open: Document | null;
  onChoose: (document: Document) => void;
  /** What else can be done with it. */
  children?: ReactNode;
}

/** What is kept of a kind, to be chosen, renamed, forgotten; and a name for what is open. */
export function Kept<Document extends object>(props: Props<Document>) {
  const { app, kind, open, onChoose, children } = props;
  const kept = useKept(app, kind);
  const keep = useKeep(app, kind);
  const forget = useForget(app, kind);
  const rename = useRename(app, kind);
  const may = useMay("work");
  const written = open && sorted(open);
  const own = kept.data?.find((one) => sorted(one.document) === written);
  return (
    <div className="d-flex flex-wrap gap-3 align-items-center mb-2">
      {kept.data?.map((one) => (
        <button
          key={one.id}
          type="button"
          className={`figure-button ${one === own ? "chosen" : ""}`}
          title={one.author && `kept by ${one.author}`}
          onClick={() => onChoose(one.document as Document)}
        >
          {one.name}
        </button>
      ))}
      {open && (
        <>
          {may &&
            (own ? (
              <>
                <button
                  type="button"
                  className="figure-button soft"
                  onClick={() => forget.mutate(own.id)}
                >
                  forget “{own.name}”
                </button>
                <NameForm
                  label={`Another name for the ${kind}`}
                  placeholder="call it …"
                  word="Rename"
                  busy={rename.isPending}
                  onName={(name) => rename.mutate({ number: own.id, name })}
                />
              </>
            ) : (
              <NameForm
                label={`Name to keep the ${kind} under`}
                placeholder="keep it as …"
                word="Keep"
                busy={keep.isPending}
                onName={(name) =>
                  keep.mutate({ name, document: open as unknown as Record<string, unknown> })
                }
              />
            ))}
          {children}
        </>
      )}
      {keep.isError && <Trouble problem={keep.error} />}
      {rename.isError && <Trouble problem={rename.error} />}
    </div>
  );
}

/** The same text for the same document, whatever the order of its parts. */
function sorted(document: unknown): string {
  return JSON.stringify(document, (_, value: unknown) =>
    value && typeof value === "object" && !Array.isArray(value)
      ? Object.fromEntries(Object.entries(value).sort(([a], [b]) => (a < b ? -1 : 1)))
      : value,
  );
}

import { Modal, Table } from "react-bootstrap";

const KEYS = [
  ["← →", "walk a journey step by step; Home and End for its ends"],
  ["↑ ↓", "the next journey in the list"],
  ["b", "hold this journey beside the next one chosen"],
  ["t", "draw the journey by steps or by time"],
  ["/", "find a view, a screen, a user, a kept funnel or pattern"],
  ["y n", "take what is proposed for an unknown name, or make it a screen of its own"],
  ["Tab, Enter", "go to a figure, and open its journeys"],
  ["k", "keep the figure whose journeys are open, for the report"],
  ["Esc", "close the evidence"],
  ["?", "this list"],
];

interface Props {
  pages: Record<string, { word: string; key: string }[]>;
  show: boolean;
  onHide: () => void;
}

export function KeyHelp({ pages, show, onHide }: Props) {
  const ways = Object.values(pages).map((own) => [
    `g then ${own.map((page) => page.key).join(", ")}`,
    `go to ${own.map((page) => page.word).join(", ")}`,
  ]);
  return (
    <Modal show={show} onHide={onHide} aria-labelledby="keys-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="keys-title">
          Keys
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <Table size="sm" borderless className="mb-0">
          <tbody>
            {[...ways, ...KEYS].map(([keys, does]) => (
              <tr key={keys}>
                <td className="text-nowrap">
                  <kbd>{keys}</kbd>
                </td>
                <td>{does}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      </Modal.Body>
    </Modal>
  );
}

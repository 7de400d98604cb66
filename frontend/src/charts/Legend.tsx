interface Props {
  x: number;
  y: number;
  /** What each colour stands for. */
  colours: [string, string][];
}

const LETTER = 6.1;

/** Colours with their words, in a line. */
export function Legend({ x, y, colours }: Props) {
  let at = x;
  return colours.map(([word, colour]) => {
    const from = at;
    at += 30 + word.length * LETTER;
    return (
      <g key={word}>
        <rect x={from} y={y - 9} width={10} height={10} fill={colour} />
        <text x={from + 15} y={y} fontSize={12} opacity={0.85}>
          {word}
        </text>
      </g>
    );
  });
}

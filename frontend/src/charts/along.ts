/** So many times the middle stay is drawn of one at the most: else the others shrink to nothing. */
const LONGEST = 8;

/** Where each moment lies on an axis of time whose long rests are cut short; and which those are. */
export function along(
  moments: readonly number[],
  end: number,
): { at: number[]; end: number; cut: boolean[] } {
  const stays = moments.map((moment, i) => (moments[i + 1] ?? end) - moment);
  const middle = [...stays].sort((a, b) => a - b)[Math.floor(stays.length / 2)] ?? 0;
  const most = Math.max(middle * LONGEST, 1);
  const at: number[] = [];
  let sum = 0;
  for (const stay of stays) {
    at.push(sum);
    sum += Math.min(stay, most);
  }
  return { at, end: sum, cut: stays.map((stay) => stay > most) };
}

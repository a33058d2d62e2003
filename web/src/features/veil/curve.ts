/** Points of an SVG polyline for values by frame, low at the bottom; a gap in the frames is a gap in the line. */
export function curveLines(
  values: Record<string, number>,
  [first, last]: readonly [number, number],
  [width, height]: readonly [number, number],
): string[] {
  const known = Object.entries(values)
    .map(([f, v]): [number, number] => [Number(f), v])
    .filter(([f]) => f >= first && f <= last)
    .sort((a, b) => a[0] - b[0]);
  if (known.length === 0) return [];
  const all = known.map(([, v]) => v);
  const low = Math.min(...all);
  const span = Math.max(...all) - low || 1;
  const lines: string[][] = [];
  known.forEach(([f, v], i) => {
    if (i === 0 || f !== known[i - 1]![0] + 1) lines.push([]);
    const x = ((f - first + 0.5) / (last - first + 1)) * width;
    const y = height - 1.5 - ((v - low) / span) * (height - 3);
    lines[lines.length - 1]!.push(`${x.toFixed(1)},${y.toFixed(1)}`);
  });
  return lines.map((l) => l.join(" "));
}

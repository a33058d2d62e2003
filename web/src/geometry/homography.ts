/** Row-major 3x3 matrices; `bFromA` maps points of a to points of b. */
export type Matrix = readonly number[];

export const identity: Matrix = [1, 0, 0, 0, 1, 0, 0, 0, 1];

export function mapPoint<P extends { x: number; y: number }>(m: Matrix, p: P): P {
  const w = m[6]! * p.x + m[7]! * p.y + m[8]!;
  return {
    x: (m[0]! * p.x + m[1]! * p.y + m[2]!) / w,
    y: (m[3]! * p.x + m[4]! * p.y + m[5]!) / w,
  } as P;
}

export function multiply(a: Matrix, b: Matrix): Matrix {
  const out: number[] = [];
  for (let r = 0; r < 3; r++)
    for (let c = 0; c < 3; c++)
      out.push(a[r * 3]! * b[c]! + a[r * 3 + 1]! * b[c + 3]! + a[r * 3 + 2]! * b[c + 6]!);
  return out;
}

export function inverse(m: Matrix): Matrix {
  const [a, b, c, d, e, f, g, h, i] = m as number[] as [
    number,
    number,
    number,
    number,
    number,
    number,
    number,
    number,
    number,
  ];
  const det = a * (e * i - f * h) - b * (d * i - f * g) + c * (d * h - e * g);
  return [
    (e * i - f * h) / det,
    (c * h - b * i) / det,
    (b * f - c * e) / det,
    (f * g - d * i) / det,
    (a * i - c * g) / det,
    (c * d - a * f) / det,
    (d * h - e * g) / det,
    (b * g - a * h) / det,
    (a * e - b * d) / det,
  ];
}

/** `SMPTE ST 12-1` counting, as in `media/timecode.py`; text for people only. */
export function rateValue(rate: string | null): number {
  const [n, d] = (rate ?? "25").split("/").map(Number);
  return (n ?? 25) / (d ?? 1);
}

export function timecode(count: number, rate: string | null, drop: boolean): string {
  const base = Math.max(1, Math.round(rateValue(rate)));
  const perMinute = drop ? (base > 30 ? 4 : 2) : 0;
  const perTen = base * 600 - 9 * perMinute;
  let n = ((count % (perTen * 144)) + perTen * 144) % (perTen * 144);
  if (perMinute) {
    const tens = Math.floor(n / perTen);
    const rest = n % perTen;
    n += 9 * perMinute * tens;
    if (rest >= base * 60) n += perMinute * (1 + Math.floor((rest - base * 60) / (base * 60 - perMinute)));
  }
  const two = (v: number) => String(v).padStart(2, "0");
  const seconds = Math.floor(n / base);
  return `${two(Math.floor(seconds / 3600))}:${two(Math.floor(seconds / 60) % 60)}:${two(seconds % 60)}${perMinute ? ";" : ":"}${two(n % base)}`;
}

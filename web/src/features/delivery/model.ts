/** A file's name in a sequence, as `services/delivering.py` writes it. */
export const fileName = (prefix: string, number: number, digits: number): string =>
  `${prefix}${String(number).padStart(digits, "0")}.png`;

/** SMPTE labels in the browser, the same arithmetic as core.timecode.labels. */
export type Format = { rate: number; nominal: number; drop: boolean };

export function formatOf(rateText: string, drop: boolean): Format {
  const [n, d] = rateText.split('/').map(Number);
  const rate = n / (d || 1);
  return { rate, nominal: Math.ceil(rate - 1e-9), drop };
}

const two = (v: number) => String(v).padStart(2, '0');

export function label(frame: number, format: Format): string {
  const { nominal, drop } = format;
  const d = drop ? nominal / 15 : 0;
  const day = 24 * 3600 * nominal - d * (24 * 60 - 24 * 6);
  let f = ((Math.round(frame) % day) + day) % day;
  if (d) {
    const minute = 60 * nominal - d;
    const ten = 10 * minute + d;
    const tens = Math.floor(f / ten);
    const rest = f % ten;
    f += 9 * d * tens;
    if (rest >= 60 * nominal) f += d * (Math.floor((rest - 60 * nominal) / minute) + 1);
  }
  const seconds = Math.floor(f / nominal);
  const ff = f % nominal;
  return `${two(Math.floor(seconds / 3600))}:${two(Math.floor(seconds / 60) % 60)}:${two(seconds % 60)}${drop ? ';' : ':'}${two(ff)}`;
}

export function frameOf(text: string, format: Format): number {
  const [hh, mm, ss, ff] = text.split(/[:;]/).map(Number);
  const d = format.drop ? format.nominal / 15 : 0;
  const minutes = 60 * hh + mm;
  return (60 * minutes + ss) * format.nominal + ff - d * (minutes - Math.floor(minutes / 10));
}

/** The label of a moment of a take, `seconds` after the take's first label. */
export function labelAt(first: string, seconds: number, format: Format): string {
  return label(frameOf(first, format) + Math.floor(seconds * format.rate + 1e-6), format);
}

/** The label of a time of day, in milliseconds since 1970: code counts from midnight UTC, as a take's first label does. */
export function labelOfDay(atMs: number, format: Format): string {
  return label(Math.floor((atMs % 86_400_000) / 1000 * format.rate + 1e-6), format);
}

/** Rates that a production is shot or delivered at. */
export const RATES = ['24000/1001', '24', '25', '30000/1001', '30', '48000/1001', '48', '50', '60000/1001', '60'];

/** The rate of every n-th frame of another: "30000/1001" and 2 give "30000/2002". */
export function everyNth(rate: string, n: number): string {
  const [frames, seconds = 1] = rate.split('/').map(Number);
  return `${frames}/${seconds * n}`;
}

export function rateWords(rateText: string, drop: boolean): string {
  const [n, d] = rateText.split('/').map(Number);
  const text = d && d !== 1 ? (n / d).toFixed(2) : String(n);
  return drop ? `${text} DF` : text;
}

/** Seconds as people say them: '40 s', '2 min 10 s', '14 min', '1 h 20 min', '6 days'. */
export function duration(seconds: number | null | undefined): string {
  if (seconds === null || seconds === undefined) return "unknown";
  const s = Math.round(seconds);
  if (s < 100) return `${s} s`;
  if (s < 300) return s % 60 ? `${Math.floor(s / 60)} min ${s % 60} s` : `${s / 60} min`;
  // Rounded once: half a second more is not half a minute more.
  const m = Math.round(seconds / 60);
  if (m < 120) return `${m} min`;
  const h = Math.floor(m / 60);
  if (h < 48) return m % 60 ? `${h} h ${m % 60} min` : `${h} h`;
  return `${Math.round(seconds / 86_400)} days`;
}

/** Seconds as a clock: '8:42', '1:02:03'. */
export function clock(seconds: number, pad = false): string {
  const sign = seconds < 0 ? "−" : "";
  const s = Math.floor(Math.abs(seconds));
  const h = Math.floor(s / 3600);
  const m = Math.floor((s % 3600) / 60);
  const mm = h || pad ? String(m).padStart(2, "0") : String(m);
  return `${sign}${h ? `${h}:` : ""}${mm}:${String(s % 60).padStart(2, "0")}`;
}

/** How a time stands to its objective: '2:31 over its objective', '27:29 inside its objective'. */
export function against(seconds: number, objective: number): string {
  const over = Math.floor(seconds) - objective;
  return over > 0 ? `${clock(over)} over its objective` : `${clock(-over)} inside its objective`;
}

/** How whoever reads wants moments: in which time zone (empty: that of the browser), and dates in which form. */
export interface Reading {
  time_zone: string;
  dates: "words" | "numbers";
}
let numbers = false;
let parts = partsIn("");

function partsIn(zone: string): Intl.DateTimeFormat {
  const fields = { year: "numeric", month: "numeric", day: "numeric", hour: "numeric", minute: "numeric", second: "numeric" } as const;
  try {
    return new Intl.DateTimeFormat("en-GB", { ...fields, hourCycle: "h23", timeZone: zone || undefined });
  } catch {
    // This browser does not know that zone.
    return new Intl.DateTimeFormat("en-GB", { ...fields, hourCycle: "h23" });
  }
}

/** From now on, for all who format. */
export function readAs(reading: Reading): void {
  numbers = reading.dates === "numbers";
  parts = partsIn(reading.time_zone);
}

/** The time zone of whoever reads. */
export const readersZone = () => parts.resolvedOptions().timeZone;

/** What the clock on the wall of whoever reads says at a moment: '2026-11-12T03:14:05'. */
export function wallClock(text: string): string {
  const found = Object.fromEntries(parts.formatToParts(new Date(text)).map((part) => [part.type, Number(part.value)]));
  return `${found["year"]}-${two(found["month"] ?? 0)}-${two(found["day"] ?? 0)}T${two(found["hour"] ?? 0)}:${two(found["minute"] ?? 0)}:${two(found["second"] ?? 0)}`;
}

/** Minutes by which that clock is ahead of UTC. */
const ahead = (text: string) => Math.round((Date.parse(`${wallClock(text)}Z`) - Math.floor(Date.parse(text) / 1000) * 1000) / 60_000);

/** When that clock says this, as ISO 8601 in UTC; of an hour that comes twice the first, of one that is left out the next. */
export function instant(wall: string): string {
  const asUtc = Date.parse(`${wall}Z`);
  const at = (minutes: number) => new Date(asUtc - minutes * 60_000).toISOString();
  const day = 86_400_000;
  const [before, after] = [ahead(new Date(asUtc - day).toISOString()), ahead(new Date(asUtc + day).toISOString())];
  return ahead(at(before)) === before ? at(before) : ahead(at(after)) === after ? at(after) : at(before);
}

const MONTHS = "Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec".split(" ");

const two = (n: number) => String(n).padStart(2, "0");

/** A moment as whoever reads wants it: '12 Nov, 03:14'; of another year than this: '12 Nov 2025, 03:14'. */
export function moment(text: string, withSeconds = false, thisYear = new Date().getFullYear()): string {
  if (Number.isNaN(Date.parse(text))) return "unknown";
  const [date = "", clock = ""] = wallClock(text).split("T");
  const time = withSeconds ? clock : clock.slice(0, 5);
  if (numbers) return `${date} ${time}`;
  const [year, month, day] = date.split("-").map(Number);
  return `${day} ${MONTHS[(month ?? 1) - 1]}${year === thisYear ? "" : ` ${year}`}, ${time}`;
}

/** The same for evidence, with nothing left to guess: '12 Nov 2026, 03:14:05 UTC+1'. */
export function exactMoment(text: string): string {
  const east = ahead(text);
  const minutes = Math.abs(east) % 60;
  const offset = east ? `${east > 0 ? "+" : "−"}${Math.floor(Math.abs(east) / 60)}${minutes ? `:${two(minutes)}` : ""}` : "";
  return `${moment(text, true, NaN)} UTC${offset}`;
}

/** How long ago: 'just now', '6 days ago'. */
export function ago(text: string, now = Date.now()): string {
  const s = (now - new Date(text).getTime()) / 1000;
  if (s < 60) return "just now";
  if (s < 86_400) return `${duration(s)} ago`;
  const days = Math.floor(s / 86_400);
  return days === 1 ? "1 day ago" : `${days} days ago`;
}

/** A chance in words that never promise: 'over 99 %', '58 %', 'under 1 %'. */
export function chance(share: number): string {
  if (share > 0.994) return "over 99 %";
  if (share < 0.006) return "under 1 %";
  return `${Math.round(share * 100)} %`;
}

/** '1 workload', '3 workloads'. */
export function count(n: number, one: string, many = `${one}s`): string {
  return `${n} ${n === 1 ? one : many}`;
}

/** Wave numerals. */
export function roman(n: number): string {
  const table: [number, string][] = [
    [10, "X"],
    [9, "IX"],
    [5, "V"],
    [4, "IV"],
    [1, "I"],
  ];
  let text = "";
  for (const [value, letters] of table) {
    while (n >= value) {
      text += letters;
      n -= value;
    }
  }
  return text;
}

/** 'a', 'a and b', 'a, b and c'. */
export function list(words: string[]): string {
  if (words.length < 2) return words.join("");
  return `${words.slice(0, -1).join(", ")} and ${words.at(-1)}`;
}

/** Bytes a second as people say link rates: in bits. */
export function rate(bytes: number): string {
  const bits = bytes * 8;
  const units: [number, string][] = [
    [1e9, "Gbit/s"],
    [1e6, "Mbit/s"],
    [1e3, "kbit/s"],
  ];
  for (const [size, unit] of units) if (bits >= size) return `${Number((bits / size).toPrecision(3))} ${unit}`;
  return `${Math.round(bits)} bit/s`;
}

/** Bytes as people say sizes. */
export function size(bytes: number): string {
  const units: [number, string][] = [
    [2 ** 40, "TiB"],
    [2 ** 30, "GiB"],
    [2 ** 20, "MiB"],
    [2 ** 10, "KiB"],
  ];
  for (const [one, unit] of units) if (bytes >= one) return `${Number((bytes / one).toPrecision(3))} ${unit}`;
  return `${bytes} bytes`;
}

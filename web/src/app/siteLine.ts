import type { SiteLine } from "@/api/types";
import { clock, count, duration } from "@/ui/format";

export type Station = SiteLine["stations"][number];

/** What goes from one site to another: protection, or a run. */
export interface Way {
  key: string;
  source: string;
  target: string;
  label: string;
  run: number | null;
  kind: string;
  strong: boolean;
  /** Nothing passes: a site is lost, or the link is cut. */
  lost: boolean;
  /** Something that somebody should see. */
  trouble: boolean;
}

export interface Place extends Way {
  x1: number;
  x2: number;
  /** Below the middle, where something goes the other way above it. */
  below: boolean;
  both: boolean;
}

const LETTER = 6.2;
const EDGE = 40;
export const BOX = 150;
const LEAST_BOX = 112;
const BESIDE = 8;
const MOST_DRAWN = 5;
const MOST_FOLDED = 4;

/** All ways, those of runs first; a run may go where nothing is copied, or against it. */
export function ways(line: SiteLine): Way[] {
  const lost = new Set(line.stations.filter((station) => station.lost_because).map((station) => station.code));
  const cut = line.links.filter((link) => link.cut_because);
  const still = line.runs.filter((run) => !line.flows.some((flow) => flow.source === run.source && flow.target === run.target));
  const alone = [...new Map(still.map((run) => [`${run.source}-${run.target}`, { source: run.source, target: run.target, groups: 0, oldest_s: null, without_point: 0 }])).values()];
  return [...alone, ...line.flows].map((flow) => {
    const isCut = cut.some((link) => [link.one, link.other].includes(flow.source) && [link.one, link.other].includes(flow.target));
    const run = line.runs.find((one) => one.source === flow.source && one.target === flow.target);
    const age = flow.without_point ? `${flow.without_point === flow.groups ? "" : `${flow.without_point} `}without a point yet` : `points up to ${duration(flow.oldest_s ?? 0)} old`;
    const isLost = isCut || lost.has(flow.source) || lost.has(flow.target);
    return {
      key: `${flow.source}-${flow.target}`,
      source: flow.source,
      target: flow.target,
      label: run
        ? `${run.plan_name}: ${run.kind}, ${clock(run.run_s)} in${run.waits ? ", needs you" : ""}`
        : isCut
          ? "cut: nothing is copied"
          : `${count(flow.groups, "group")}, ${age}`,
      run: run?.id ?? null,
      kind: run?.kind ?? "",
      strong: flow.groups > 2,
      lost: isLost,
      trouble: isLost || flow.without_point > 0,
    };
  });
}

/** An order of the stations in which every way joins neighbours, the given one if it does; else none. */
export function order(stations: readonly Station[], all: readonly Way[]): Station[] | null {
  const fits = (row: readonly Station[]) => {
    const at = new Map(row.map((station, i) => [station.code, i]));
    return all.every((way) => Math.abs((at.get(way.source) ?? 0) - (at.get(way.target) ?? 0)) === 1);
  };
  if (stations.length > MOST_DRAWN) return null;
  const rows = (rest: readonly Station[]): Station[][] => (rest.length < 2 ? [[...rest]] : rest.flatMap((one) => rows(rest.filter((other) => other !== one)).map((row) => [one, ...row])));
  return rows(stations).find(fits) ?? null;
}

/** Where everything stands when it is drawn `width` px wide; null where something would not fit in two lines. */
export function drawn(line: SiteLine, width: number): { row: { station: Station; x: number; wide: number }[]; places: Place[] } | null {
  const all = ways(line);
  const row = order(line.stations, all);
  if (!row?.length) return null;
  const edge = Math.min(EDGE, width * 0.03);
  const wide = Math.max(LEAST_BOX, Math.min(BOX, width / row.length / 2.2));
  const room = row.length > 1 ? (width - 2 * edge - wide) / (row.length - 1) : 0;
  const x = new Map(row.map((station, i) => [station.code, edge + i * room]));
  const places = all.map((way) => {
    const [a, b] = [x.get(way.source) ?? 0, x.get(way.target) ?? 0];
    const both = all.some((other) => other.source === way.target && other.target === way.source);
    return { ...way, x1: Math.min(a, b) + wide, x2: Math.max(a, b), both, below: both && b < a };
  });
  const fits = places.every((place) => place.label.length * LETTER < 1.8 * (place.x2 - place.x1 - 2 * BESIDE));
  const named = row.every((station) => station.name.length * 7 < 1.8 * (wide - 60));
  return fits && named ? { row: row.map((station) => ({ station, x: x.get(station.code) ?? 0, wide })), places } : null;
}

/** What matters now, where not all of it has room: sites and ways with news, and how many others there are. */
export function folded(line: SiteLine, narrow: boolean): { stations: Station[]; quiet: Station[]; ways: Way[]; more: Way[] } {
  const all = ways(line);
  const news = (station: Station) => station.lost_because || station.copies > 0 || all.some((way) => (way.run !== null || way.trouble) && [way.source, way.target].includes(station.code));
  const few = line.stations.length <= MOST_FOLDED;
  const stations = few ? [...line.stations] : line.stations.filter(news);
  const telling = all.filter((way) => way.run !== null || way.trouble);
  const shown = narrow || all.length > MOST_FOLDED ? telling : all;
  return {
    stations,
    quiet: line.stations.filter((station) => !stations.includes(station)),
    ways: shown,
    more: narrow ? [] : all.filter((way) => !shown.includes(way)),
  };
}

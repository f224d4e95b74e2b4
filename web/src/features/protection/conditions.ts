import type { GroupLine } from "@/api/types";

type Condition = GroupLine["health"]["condition"];
/** State has a shape and a word, not only a colour. */
export const SHAPES: Record<Condition, string> = { healthy: "✓", lagging: "▲", failing: "▲", paused: "‖", stalled: "✕", seeding: "◔", unknown: "?", waiting: "◌", moving: "→", unprotected: "✕", "in clear": "✕", refused: "✕" };
export const BAD = new Set<Condition>(["lagging", "failing", "stalled", "unknown", "unprotected", "in clear", "refused"]);

import type { Place } from "./layout";

interface Box {
  position: Place;
  width?: number;
  height?: number;
}

/** The box whose middle is nearest to a place; undefined: there is none. */
export function nearest<T extends Box>(boxes: T[], at: Place): T | undefined {
  const away = (b: T) =>
    Math.hypot(b.position.x + (b.width ?? 0) / 2 - at.x, b.position.y + (b.height ?? 0) / 2 - at.y);
  return boxes.reduce<T | undefined>((best, b) => (best && away(best) <= away(b) ? best : b), undefined);
}

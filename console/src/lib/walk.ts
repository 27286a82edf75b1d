import type { Place } from "./layout";

export type Arrow = "ArrowRight" | "ArrowLeft" | "ArrowDown" | "ArrowUp";

export const isArrow = (key: string): key is Arrow => /^Arrow(Right|Left|Down|Up)$/.test(key);

/**
 * The node to which an arrow leads from another: on or back along a link, to the one that stands most level; down or up
 * to the next of those that are linked to a neighbour of it. Undefined: to none.
 */
export function alongLinks(
  from: string,
  arrow: Arrow,
  links: { from: string; to: string }[],
  placeOf: (node: string) => Place | undefined,
): string | undefined {
  const on = (n: string) => links.filter((l) => l.from === n).map((l) => l.to);
  const back = (n: string) => links.filter((l) => l.to === n).map((l) => l.from);
  const here = placeOf(from);
  if (!here) return;
  const rise = (n: string) => (placeOf(n)?.y ?? Infinity) - here.y;
  const level = arrow === "ArrowRight" || arrow === "ArrowLeft";
  const sign = arrow === "ArrowUp" ? -1 : 1;
  const reached = level
    ? (arrow === "ArrowRight" ? on : back)(from)
    : [...back(from).flatMap(on), ...on(from).flatMap(back)].filter((n) => sign * rise(n) > 0);
  return reached
    .filter((n) => n !== from && Number.isFinite(rise(n)))
    .reduce<string | undefined>((best, n) => (best && Math.abs(rise(best)) <= Math.abs(rise(n)) ? best : n), undefined);
}

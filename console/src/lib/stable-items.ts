/** Makes a function that gives each item as it was the last time, where nothing of it has changed: what is drawn of it then stays. */
export function stableItems<T extends { id: string }>(): (items: T[]) => T[] {
  let last = new Map<string, { written: string; item: T }>();
  return (items) => {
    const now = new Map(
      items.map((item) => {
        const [written, was] = [JSON.stringify(item), last.get(item.id)];
        return [item.id, was?.written === written ? was : { written, item }];
      }),
    );
    last = now;
    return items.map((item) => now.get(item.id)!.item);
  };
}

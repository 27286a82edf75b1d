/** Something that the palette offers. */
export interface Command {
  group: string; // the heading it stands under
  text: string;
  hint?: string; // its key, or what it is
  also?: string; // further words by which it is found
  run: () => void;
}

/** How well a command fits what is looked for: 0 not at all, more is better. Words may stand in any order. */
export function fits(command: Command, looked: string): number {
  const words = looked.trim().toLowerCase().split(/\s+/).filter(Boolean);
  const text = command.text.toLowerCase();
  const all = [text, command.group, command.hint ?? "", command.also ?? ""].join(" ").toLowerCase();
  if (!words.every((w) => all.includes(w))) return 0;
  if (words.length && text.startsWith(words.join(" "))) return 4;
  if (words.every((w) => text.split(/[\s:-]+/).some((part) => part.startsWith(w)))) return 3;
  return words.every((w) => text.includes(w)) ? 2 : 1;
}

/** The commands that fit, the best of each group first; groups in the order in which they come. */
export function found(commands: Command[], looked: string, most = 60): Command[] {
  const rated = commands.map((command) => ({ command, fit: fits(command, looked) })).filter((r) => r.fit > 0);
  const best = new Map<string, number>();
  for (const r of rated) best.set(r.command.group, Math.max(best.get(r.command.group) ?? 0, r.fit));
  const order = [...best.keys()].sort((a, b) => best.get(b)! - best.get(a)!);
  return order
    .flatMap((group) =>
      rated
        .filter((r) => r.command.group === group)
        .sort((a, b) => b.fit - a.fit)
        .slice(0, 12),
    )
    .slice(0, most)
    .map((r) => r.command);
}

class Palette {
  open = $state(false);
  /** What the page that is open offers. */
  page = $state.raw<Command[]>([]);
  /** What is asked for, and the only answers; nothing: everything is offered. */
  asked = $state.raw<{ title: string; answers: Command[] } | undefined>();

  /** Asks for one of some answers. */
  ask(title: string, answers: Command[]) {
    this.asked = { title, answers };
    this.open = true;
  }

  /** Says at once that it is closed: the dialog's own event comes later, perhaps after it was opened again. */
  close() {
    this.open = false;
    this.asked = undefined;
  }
}

export const palette = new Palette();

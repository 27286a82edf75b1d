/** A text in which names stand in backticks, as findings write them: pieces of words and of code. */
export function pieces(text: string): { text: string; code: boolean }[] {
  return text
    .split("`")
    .map((text, i) => ({ text, code: i % 2 === 1 }))
    .filter((p) => p.text !== "");
}

/** The same without the backticks, where only words can be shown. */
export const plain = (text: string): string => text.replaceAll("`", "");

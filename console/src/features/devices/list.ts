/** Splits text as spreadsheets write it: cells apart by tab, semicolon or comma, quotes around what holds one of them. */
export function cellsOf(text: string): string[][] {
  const first = text.split("\n", 1)[0] ?? "";
  const separator = ["\t", ";", ","].find((mark) => first.includes(mark)) ?? ",";
  const rows: string[][] = [[]];
  let cell = "";
  let isQuoted = false;
  for (let at = 0; at < text.length; at++) {
    const letter = text[at];
    if (isQuoted) {
      if (letter !== '"') cell += letter;
      else if (text[at + 1] === '"') cell += text[++at];
      else isQuoted = false;
    } else if (letter === '"' && cell === "") isQuoted = true;
    else if (letter === separator || letter === "\n") {
      rows.at(-1)?.push(cell.trim());
      cell = "";
      if (letter === "\n") rows.push([]);
    } else cell += letter;
  }
  rows.at(-1)?.push(cell.trim());
  return rows.filter((row) => row.some((text) => text !== ""));
}

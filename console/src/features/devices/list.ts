/**
 * Splits text as spreadsheets write it: cells apart by tab, semicolon or comma, quotes around what holds one of them. What is copied
 * from cells has tabs alone, and its empty rows count.
 */
export function cellsOf(text: string, isCopied = false): string[][] {
  const first = text.split("\n", 1)[0] ?? "";
  const separator = isCopied ? "\t" : (["\t", ";", ","].find((mark) => first.includes(mark)) ?? ",");
  const rows: string[][] = [[]];
  let cell = "";
  let isQuoted = false;
  for (let at = 0; at < text.length; at++) {
    const letter = text[at];
    if (letter === "\r" && text[at + 1] === "\n") continue;
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
  // The last line has an end of its own.
  if (isCopied) return rows.at(-1)?.join("") === "" ? rows.slice(0, -1) : rows;
  return rows.filter((row) => row.some((text) => text !== ""));
}

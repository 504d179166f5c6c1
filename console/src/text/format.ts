/** A span as people say it: 0.4 s, 12 s, 3 min, 5 h, 2 d. */
export function span(millis: number): string {
  const seconds = Math.max(0, millis) / 1000;
  if (seconds < 10) return `${(Math.floor(seconds * 10) / 10).toFixed(1)} s`;
  if (seconds < 120) return `${Math.floor(seconds)} s`;
  if (seconds < 7200) return `${Math.floor(seconds / 60)} min`;
  if (seconds < 172_800) return `${Math.floor(seconds / 3600)} h`;
  return `${Math.floor(seconds / 86_400)} d`;
}

/** Digits in groups of three, with a narrow space between them, from five on. */
function grouped(text: string): string {
  return text.replace(/^(-?)(\d{5,})/, (_, sign: string, digits: string) => sign + digits.replace(/\B(?=(\d{3})+$)/g, "\u202f"));
}

/**
 * A value as a meter would show it, with its decimals where they are known; a dash when there is none. What is of a type with decimals
 * keeps as many, also when they are noughts.
 */
export function value(of: unknown, decimals?: number | null, type = ""): string {
  if (of === null || of === undefined) return "–";
  if (typeof of === "boolean") return of ? "on" : "off";
  if (typeof of === "object") return JSON.stringify(of);
  if (typeof of !== "number") return String(of);
  if (decimals != null) return grouped(of.toFixed(decimals));
  const isSteady = type.startsWith("float");
  if (Number.isInteger(of) && !isSteady) return grouped(String(of));
  const size = Math.abs(of);
  const fixed = of.toFixed(size >= 1000 ? 1 : size >= 1 ? 2 : 4);
  return grouped(isSteady ? fixed : String(Number(fixed)));
}

/** A value with all digits that its type has, to be compared with a display: none of them is rounded away, and none is made up. */
export function exact(of: unknown, type = ""): string {
  if (typeof of !== "number" || Number.isSafeInteger(of)) return value(of);
  // What a double holds for certain; what is beyond comes from a scale.
  if (type !== "float32") return String(Number(of.toPrecision(15)));
  for (let digits = 1; digits < 10; digits++) {
    const text = of.toPrecision(digits);
    if (Math.fround(Number(text)) === Math.fround(of)) return String(Number(text));
  }
  return String(of);
}

/** The values as the device sent them: bits as 0 and 1, nothing rounded. */
export function raw(of: unknown): string {
  if (of === null || of === undefined) return "–";
  if (typeof of === "boolean") return of ? "1" : "0";
  return String(of);
}

/** A moment on the clock of this browser. */
export function clock(millis: number): string {
  return new Date(millis).toLocaleTimeString([], { hour12: false });
}

/** A moment with its date, on the clock of this browser. */
export function date(millis: number): string {
  const moment = new Date(millis);
  const two = (number: number) => String(number).padStart(2, "0");
  const day = `${moment.getFullYear()}-${two(moment.getMonth() + 1)}-${two(moment.getDate())}`;
  return `${day} ${two(moment.getHours())}:${two(moment.getMinutes())}:${two(moment.getSeconds())}`;
}

export function count(number: number, one: string, many = `${one}s`): string {
  return `${number.toLocaleString("en")} ${number === 1 ? one : many}`;
}

/** The text of a file, whatever program wrote it. */
export function textOf(file: Blob): Promise<string> {
  return new Promise((resolve, reject) => {
    const reader = new FileReader();
    reader.onload = () => resolve(decoded(new Uint8Array(reader.result as ArrayBuffer)));
    reader.onerror = () => reject(reader.error ?? new Error("the file cannot be read"));
    reader.readAsArrayBuffer(file);
  });
}

/** Text in UTF-16 where it begins so, else in UTF-8 where it is that, else in Windows-1252. */
export function decoded(octets: Uint8Array): string {
  const [first, second] = octets;
  if (first === 0xff && second === 0xfe) return new TextDecoder("utf-16le").decode(octets);
  if (first === 0xfe && second === 0xff) return new TextDecoder("utf-16be").decode(octets);
  try {
    return new TextDecoder("utf-8", { fatal: true }).decode(octets);
  } catch {
    return new TextDecoder("windows-1252").decode(octets);
  }
}

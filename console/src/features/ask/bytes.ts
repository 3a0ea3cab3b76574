/** The service counts places in bytes of UTF-8, the editor in UTF-16 units. */
export function indexOfByte(text: string, byte: number): number {
  let bytes = 0;
  let index = 0;
  for (const letter of text) {
    if (bytes >= byte) break;
    const code = letter.codePointAt(0) ?? 0;
    bytes += code < 0x80 ? 1 : code < 0x800 ? 2 : code < 0x10000 ? 3 : 4;
    index += letter.length;
  }
  return index;
}

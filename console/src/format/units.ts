/** A unit as people write it: m³/s for m3/s, °C for Cel, boats for {boat}. As in the core (crates/core/src/units.rs); both are tested with unit_text.tsv. */
export function unitText(code: string | null | undefined): string {
  if (!code) return "";
  if (code in SYMBOLS) return SYMBOLS[code] ?? "";
  const part = (text: string) =>
    text.split(".").reduce((sum, factor) => sum + (sum === "" || factor === "h" ? "" : "·") + factorText(factor), "");
  return code.split("/").map(part).join("/");
}

const SYMBOLS: Record<string, string> = { Cel: "°C", "[degF]": "°F", Ohm: "Ω", deg: "°", "mm[Hg]": "mmHg", "1": "" };
const RAISED: Record<string, string> = {
  "-": "⁻",
  "0": "⁰",
  "1": "¹",
  "2": "²",
  "3": "³",
  "4": "⁴",
  "5": "⁵",
  "6": "⁶",
  "7": "⁷",
  "8": "⁸",
  "9": "⁹",
};

function factorText(factor: string): string {
  const name = /^\{(.*)\}$/.exec(factor)?.[1];
  if (name !== undefined) return /^\p{Ll}+$/u.test(name) && !name.endsWith("s") ? `${name}s` : name;
  if (factor !== "1" && factor in SYMBOLS) return SYMBOLS[factor] ?? factor;
  const [, unit = "", exponent = ""] = /^(.*?)(-?\d*)$/.exec(factor) ?? [];
  if (unit === "") return factor;
  const prefixed = /^u./.test(unit) ? `µ${unit.slice(1)}` : unit;
  return prefixed + [...exponent].map((digit) => RAISED[digit] ?? digit).join("");
}

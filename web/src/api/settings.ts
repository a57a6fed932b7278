import { declared, type MethodName, type Setting, type Settings } from "./methods";

/**
 * The settings that stand in an address, typed; what is not there, or makes no sense, is left as it is at first.
 * Several methods of one sheet read what they share, a feature for instance, under one name.
 */
export function settingsOf<M extends MethodName>(method: M, search: URLSearchParams): Settings<M> {
  const found: Record<string, unknown> = {};
  for (const [name, setting] of Object.entries(declared(method).settings)) {
    const text = search.get(setting.address);
    const value = text === null ? undefined : read(setting, text);
    if (value !== undefined && !same(value, setting.default)) found[name] = value;
  }
  return found as Settings<M>;
}

/** What to write into an address so that the settings are read from it again; null takes a name out. */
export function addressOf(method: string, settings: Record<string, unknown>): Record<string, string | null> {
  const out: Record<string, string | null> = {};
  for (const [name, setting] of Object.entries(declared(method)?.settings ?? {})) {
    if (!(name in settings)) continue;
    const value = settings[name];
    out[setting.address] =
      value === null || value === undefined || same(value, setting.default) ? null : written(setting, value);
  }
  return out;
}

function read(setting: Setting, text: string): unknown {
  switch (setting.kind) {
    case "boolean":
      return text !== "" && text !== "0";
    case "integer":
      return /^-?\d+$/.test(text) ? within(setting, Number(text)) : undefined;
    case "number":
      return text.trim() !== "" && Number.isFinite(Number(text)) ? within(setting, Number(text)) : undefined;
    case "array":
      return list(setting, text);
    case "object":
      return record(setting, text);
    default:
      return setting.values && !setting.values.includes(text) ? undefined : text;
  }
}

function within(setting: Setting, value: number): number | undefined {
  const { least, most, over, under } = setting;
  const outside =
    (least !== undefined && value < least) ||
    (most !== undefined && value > most) ||
    (over !== undefined && value <= over) ||
    (under !== undefined && value >= under);
  return outside ? undefined : value;
}

function list(setting: Setting, text: string): unknown {
  if (setting.of === "string") return text.split(",").filter(Boolean).map(decoded);
  if (setting.of === "number" || setting.of === "integer") {
    const numbers = text.split(",").map((one) => (one.trim() === "" ? Number.NaN : Number(one)));
    const many = Array.isArray(setting.default) && setting.default.length > 0 ? setting.default.length : numbers.length;
    return numbers.length === many && numbers.every(Number.isFinite) ? numbers : undefined;
  }
  const found = parsed(text);
  return Array.isArray(found) ? found : undefined;
}

function record(setting: Setting, text: string): unknown {
  const found = parsed(text);
  const held = setting.of === "number" ? "number" : "string";
  if (typeof found !== "object" || found === null || Array.isArray(found)) return undefined;
  return Object.values(found).every((value) => typeof value === held) ? found : undefined;
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return undefined;
  }
}

function written(setting: Setting, value: unknown): string {
  if (typeof value === "boolean") return value ? "1" : "0";
  if (Array.isArray(value) && setting.of !== "object" && setting.of !== "array") {
    return value.map((one) => String(one).replace(/[%,]/g, encodeURIComponent)).join(",");
  }
  return typeof value === "object" ? JSON.stringify(value) : String(value);
}

function decoded(text: string): string {
  try {
    return decodeURIComponent(text);
  } catch {
    return text;
  }
}

function same(one: unknown, other: unknown): boolean {
  return JSON.stringify(one) === JSON.stringify(other);
}

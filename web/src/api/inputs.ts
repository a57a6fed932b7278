import formats from "./formats.json";
import declared from "./inputs.json";

/** What an audit can be given besides its table and models. */
export interface Input {
  name: string;
  title: string;
  /** With its article, within a sentence. */
  words: string;
  /** Endings of its files. */
  files: string[];
  use: string;
}

export const INPUTS: Input[] = Object.entries(declared as Record<string, Omit<Input, "name">>).map(([name, one]) => ({
  name,
  ...one,
}));

/** Endings of model files. */
export const MODELS: string[] = Object.values(formats).flatMap((one) => one.files);

/** Where a file belongs, by how its name ends: an input of its own, the models, or the table. */
export function placeOf(file: string, inputs: readonly Input[] = INPUTS, models: readonly string[] = MODELS): string {
  const name = file.toLowerCase();
  const input = inputs.find((one) => one.files.some((ending) => name.endsWith(ending)));
  if (input) return `inputs/${input.name}`;
  return models.some((ending) => name.endsWith(ending)) ? "models" : "table";
}

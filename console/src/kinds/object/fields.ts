/** Fields of an object as its text has them. */

export interface FieldText {
  type: string;
  column?: string;
  label?: string | Record<string, string>;
  description?: string;
  required?: boolean;
  read_only?: boolean;
  sensitive?: boolean;
  default?: string;
  parent?: string;
  refers_to?: string;
}
export type Fields = Record<string, FieldText>;

export function labelOf(label: FieldText["label"]): string {
  return typeof label === "string"
    ? label
    : label
      ? (label[navigator.language.slice(0, 2)] ?? Object.values(label)[0] ?? "")
      : "";
}

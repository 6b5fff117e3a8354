/** Files that were chosen or dropped, folders included, as the API takes them: by path, in base64. */

export type Files = { [path: string]: string };

export const MOST_BYTES = 32 * 1024 * 1024;

export function toBase64(bytes: Uint8Array): string {
  const pieces: string[] = [];
  for (let at = 0; at < bytes.length; at += 0x8000)
    pieces.push(String.fromCharCode(...bytes.subarray(at, at + 0x8000)));
  return btoa(pieces.join(""));
}

export function textFiles(text: string): Files {
  return { "contract.wsdl": toBase64(new TextEncoder().encode(text)) };
}

async function content(file: File): Promise<string> {
  return toBase64(new Uint8Array(await file.arrayBuffer()));
}

/** Chosen in a dialog: with their paths below the folder, where one was chosen. */
export async function chosenFiles(files: Iterable<File>): Promise<Files> {
  const found: Files = {};
  for (const file of files) found[file.webkitRelativePath || file.name] = await content(file);
  return found;
}

/** Dropped: what lies in a folder is walked through. */
export async function droppedFiles(transfer: DataTransfer): Promise<Files> {
  const entries = [...transfer.items].flatMap((item) => item.webkitGetAsEntry() ?? []);
  if (!entries.length) return chosenFiles(transfer.files);
  const found: Files = {};
  for (const entry of entries) await walk(entry, "", found);
  return found;
}

async function walk(entry: FileSystemEntry, above: string, found: Files): Promise<void> {
  const path = above + entry.name;
  if (entry.isFile) {
    const file = await new Promise<File>((take, fail) => (entry as FileSystemFileEntry).file(take, fail));
    found[path] = await content(file);
    return;
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  // A reader gives its entries in portions, until an empty one.
  for (;;) {
    const portion = await new Promise<FileSystemEntry[]>((take, fail) => reader.readEntries(take, fail));
    if (!portion.length) return;
    for (const one of portion) await walk(one, `${path}/`, found);
  }
}

/** A name for the service, from what the contract calls it. */
export function serviceName(words: string): string {
  const name = words
    .split(/[^A-Za-z0-9]+/)
    .map((one) => one.charAt(0).toUpperCase() + one.slice(1))
    .join("");
  return /^[A-Za-z]/.test(name) ? name : `Service${name}`;
}

export function fromBase64Bytes(content: string): Uint8Array<ArrayBuffer> {
  return Uint8Array.from(atob(content), (one) => one.charCodeAt(0));
}

/** The text of a file that was taken. */
export function fromBase64(content: string): string {
  return new TextDecoder().decode(fromBase64Bytes(content));
}

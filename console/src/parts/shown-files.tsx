/** Definitions as text, by the paths of their files. */
import { CopyButton } from "./controls";

export function ShownFiles({ files }: { files: Record<string, string> }) {
  return Object.entries(files).map(([path, text]) => (
    <div key={path} className="mt-3">
      <p className="flex items-center font-mono text-[12px] text-ink2">
        {path}
        <span className="ml-auto">
          <CopyButton text={text} what={path} />
        </span>
      </p>
      <pre className="overflow-auto border border-line bg-sheet p-2 font-mono text-[11.5px] leading-[16px]">{text}</pre>
    </div>
  ));
}

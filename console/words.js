/** Lists every text that the console says, for translators: `npm run words` writes src/words/messages.json; the tests compare it. */
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { pathToFileURL } from "node:url";
import ts from "typescript";

/** The first argument of t and rich, and the nouns of plural, sorted, each once. */
export function messagesOf(sources) {
  const found = new Set();
  const visit = (node) => {
    if (ts.isCallExpression(node) && ts.isIdentifier(node.expression)) {
      const name = node.expression.text;
      const texts = node.arguments.filter(ts.isStringLiteralLike).map((one) => one.text);
      if (name === "t" || name === "rich") for (const one of literals(node.arguments[0])) found.add(one);
      if (name === "plural") for (const one of texts.length === 1 ? [texts[0], `${texts[0]}s`] : texts) found.add(one);
    }
    ts.forEachChild(node, visit);
  };
  for (const source of sources)
    visit(ts.createSourceFile("x.tsx", source, ts.ScriptTarget.Latest, false, ts.ScriptKind.TSX));
  return [...found].sort();
}

/** The texts that an argument may be: one, or one of two. */
function literals(node) {
  if (node === undefined) return [];
  if (ts.isStringLiteralLike(node)) return [node.text];
  return ts.isConditionalExpression(node) ? [...literals(node.whenTrue), ...literals(node.whenFalse)] : [];
}

function filesIn(folder) {
  return readdirSync(folder, { withFileTypes: true }).flatMap((one) => {
    const path = join(folder, one.name);
    if (one.isDirectory()) return filesIn(path);
    return /\.tsx?$/.test(one.name) && !/\.test\./.test(one.name) ? [path] : [];
  });
}

if (import.meta.url === pathToFileURL(process.argv[1]).href) {
  const messages = messagesOf(filesIn("src").map((one) => readFileSync(one, "utf8")));
  writeFileSync("src/words/messages.json", `${JSON.stringify(messages, null, 2)}\n`);
}

/// <reference types="vite/client" />
import { renderToStaticMarkup } from "react-dom/server";
import { createElement } from "react";
import { afterEach, expect, it } from "vitest";
import { noun, rich, speak, t } from "./text";
import listed from "./words/messages.json";
import { messagesOf } from "../words.js";

afterEach(() => {
  speak({});
});

it("puts values where a language wants them", () => {
  expect(t("{0} of {1}", 2, 7)).toBe("2 of 7");
  speak({ "{0} of {1}": "von {1}: {0}", Calls: "Aufrufe" });
  expect([t("{0} of {1}", 2, 7), t("Calls"), t("Pools")]).toEqual(["von 7: 2", "Aufrufe", "Pools"]);
});

it("draws what is put in, wherever it stands", () => {
  const bold = createElement("b", null, "live");
  const draw = () => renderToStaticMarkup(createElement("p", null, rich("Deploy to {0} now", bold)));
  expect(draw()).toBe("<p>Deploy to <b>live</b> now</p>");
  speak({ "Deploy to {0} now": "{0}: jetzt" });
  expect(draw()).toBe("<p><b>live</b>: jetzt</p>");
});

it("counts nouns by the forms of the language", () => {
  expect([noun(1, "call", "calls"), noun(3, "call", "calls")]).toEqual(["call", "calls"]);
  speak({ calls: { other: "Aufrufe" }, call: "Aufruf" });
  expect([noun(1, "call", "calls"), noun(3, "call", "calls")]).toEqual(["Aufruf", "Aufrufe"]);
});

it("has the list of all that the code says", () => {
  const sources = import.meta.glob<string>(["./**/*.ts", "./**/*.tsx", "!./**/*.test.ts"], {
    eager: true,
    query: "?raw",
    import: "default",
  });
  expect(listed, "run: npm run words").toEqual(messagesOf(Object.values(sources)));
});

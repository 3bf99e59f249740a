// @vitest-environment node
import { execFile } from "node:child_process";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { createServer, type IncomingMessage, type Server } from "node:http";
import type { AddressInfo } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { promisify } from "node:util";

import { afterAll, beforeAll, describe, expect, it } from "vitest";

import type { Call } from "../portal/call/request";
import { LANGUAGES } from "../portal/code/languages";

const run = promisify(execFile);

/** How the code of a language is run, where its tools are at hand: the file it stands in, and the command. */
const TOOLS: Record<string, { file: string; command: (file: string) => [string, string[]] }> = {
  curl: { file: "call.sh", command: (f) => ["sh", [f]] },
  Python: { file: "call.py", command: (f) => ["python3", [f]] },
  JavaScript: { file: "call.js", command: (f) => [process.execPath, [f]] },
  TypeScript: {
    file: "call.ts",
    command: (f) => [process.execPath, ["--experimental-strip-types", "--no-warnings", f]],
  },
  Java: { file: "Call.java", command: (f) => ["java", [f]] },
  Go: { file: "call.go", command: (f) => ["go", ["run", f]] },
  Ruby: { file: "call.rb", command: (f) => ["ruby", [f]] },
  PHP: { file: "call.php", command: (f) => ["php", [f]] },
};

/** Whether the tools are at hand: `curl` and `python3` must be, others may be missing. */
async function isHere(name: string): Promise<boolean> {
  const [program] = TOOLS[name]?.command("x") ?? [""];
  if (name === "curl" || name === "Python" || name === "JavaScript") return true;
  if (name === "TypeScript") return Number(process.versions.node.split(".")[0]) >= 22;
  return run("sh", ["-c", `command -v ${program}`]).then(
    () => true,
    () => false,
  );
}

interface Seen {
  method: string;
  url: string;
  headers: IncomingMessage["headers"];
  body: string;
}

let server: Server;
let address = "";
let seen: Seen[] = [];
const folder = mkdtempSync(join(tmpdir(), "code-"));

beforeAll(async () => {
  server = createServer((request, reply) => {
    const parts: Buffer[] = [];
    request.on("data", (part: Buffer) => parts.push(part));
    request.on("end", () => {
      const { method = "", url = "", headers } = request;
      seen.push({ method, url, headers, body: Buffer.concat(parts).toString() });
      reply.writeHead(url.startsWith("/refused") ? 429 : 200, { "content-type": "text/plain" });
      reply.end("760.125 crowns");
    });
  });
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done));
  address = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
});

afterAll(() => {
  server.close();
  rmSync(folder, { recursive: true });
});

/** What is hard to write down in one language or another. */
const ODD = `it's "quoted" \\ back, $HOME \`id\` #{1+1} {x} %s – é 船\n\tend`;

const calls = (): Call[] => [
  { method: "GET", url: `${address}/fares/FAR-MAR/foot?passengers=2&on=2027-05-14`, headers: [["API-Key", "abc-17"]] },
  {
    method: "POST",
    url: `${address}/holds`,
    headers: [
      ["API-Key", "abc-17"],
      ["Content-Type", "application/json"],
    ],
    body: JSON.stringify({ note: ODD }, null, 2),
  },
  { method: "DELETE", url: `${address}/refused/it's%20gone`, headers: [["X-Odd", `$HOME 'a' "b" \\ #{x}`]] },
];

describe("the call as code", () => {
  for (const language of LANGUAGES) {
    it(`is the call itself in ${language.name}`, async (test) => {
      const tool = TOOLS[language.name];
      if (!tool || !(await isHere(language.name))) return test.skip();
      for (const [i, call] of calls().entries()) {
        seen = [];
        const file = join(folder, `${i}${tool.file}`.replace("0Call", "Call").replace(/^\d+Call/, "Call"));
        writeFileSync(file, language.code(call));
        const [program, args] = tool.command(file);
        const { stdout } = await run(program, args, { cwd: folder });
        expect(stdout).toContain("760.125 crowns");
        expect(stdout).toContain(call.url.includes("refused") ? "429" : "200");
        expect(seen).toHaveLength(1);
        const [got] = seen;
        expect(`${address}${got?.url}`).toBe(call.url);
        expect(got?.method).toBe(call.method);
        expect(got?.body).toBe(call.body ?? "");
        for (const [name, value] of call.headers) expect(got?.headers[name.toLowerCase()]).toBe(value);
      }
    });
  }

  it("escapes what would end a text, in every language", () => {
    for (const language of LANGUAGES) {
      const code = language.code(calls()[1]!);
      // The quote of the text never stands bare: what follows it would be code.
      expect(code, language.name).not.toMatch(/[^\\]"quoted"/);
    }
  });
});

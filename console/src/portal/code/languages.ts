import type { Call } from "../call/request";

/** The same call in the languages that people use; each runs as it stands, with what comes with the language where it has it. */
export interface Language {
  name: string;
  code: (call: Call) => string;
}

/** A text between double quotes, as most languages have it: quotes, backslashes and control characters are escaped. */
const quoted = (text: string, dollar = false): string => {
  const plain = JSON.stringify(text);
  return dollar ? plain.replace(/\$/g, "\\$") : plain;
};

/** A text for a POSIX shell. */
const shell = (text: string): string => `'${text.replace(/'/g, `'\\''`)}'`;

/** A text between single quotes, for Ruby and PHP. */
const single = (text: string): string => `'${text.replace(/\\/g, "\\\\").replace(/'/g, "\\'")}'`;

const curl = (c: Call): string => {
  const lines = [`curl -i -X ${c.method} ${shell(c.url)}`];
  for (const [name, value] of c.headers) lines.push(`  -H ${shell(`${name}: ${value}`)}`);
  if (c.body !== undefined) lines.push(`  --data-raw ${shell(c.body)}`);
  return lines.join(" \\\n");
};

const python = (c: Call): string => {
  const headers = c.headers.map(([n, v]) => `    ${quoted(n)}: ${quoted(v)},\n`).join("");
  const body = c.body === undefined ? "None" : `${quoted(c.body)}.encode()`;
  return `import urllib.error
import urllib.request

request = urllib.request.Request(
    ${quoted(c.url)},
    method=${quoted(c.method)},
    data=${body},
    headers={
${headers}    },
)
try:
    reply = urllib.request.urlopen(request)
except urllib.error.HTTPError as refused:
    reply = refused
print(reply.status)
print(reply.read().decode())
`;
};

const options = (c: Call, indent: string): string => {
  const headers = c.headers.map(([n, v]) => `${indent}  ${quoted(n)}: ${quoted(v)},\n`).join("");
  const body = c.body === undefined ? "" : `${indent}body: ${quoted(c.body)},\n`;
  return `${indent}method: ${quoted(c.method)},\n${indent}headers: {\n${headers}${indent}},\n${body}`;
};

const javascript = (c: Call): string => `(async () => {
  const reply = await fetch(${quoted(c.url)}, {
${options(c, "    ")}  });
  console.log(reply.status);
  console.log(await reply.text());
})();
`;

const typescript = (c: Call): string => `async function call(): Promise<void> {
  const reply: Response = await fetch(${quoted(c.url)}, {
${options(c, "    ")}  });
  console.log(reply.status);
  console.log(await reply.text());
}

void call();
`;

const java = (c: Call): string => {
  const headers = c.headers.map(([n, v]) => `            .header(${quoted(n)}, ${quoted(v)})\n`).join("");
  const body =
    c.body === undefined
      ? "HttpRequest.BodyPublishers.noBody()"
      : `HttpRequest.BodyPublishers.ofString(${quoted(c.body)})`;
  return `import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;

public class Call {
    public static void main(String[] args) throws Exception {
        HttpRequest request = HttpRequest.newBuilder(URI.create(${quoted(c.url)}))
            .method(${quoted(c.method)}, ${body})
${headers}            .build();
        HttpResponse<String> reply = HttpClient.newHttpClient().send(request, HttpResponse.BodyHandlers.ofString());
        System.out.println(reply.statusCode());
        System.out.println(reply.body());
    }
}
`;
};

const csharp = (c: Call): string => {
  const type = c.headers.find(([n]) => n === "Content-Type")?.[1] ?? "application/json";
  const headers = c.headers
    .filter(([n]) => n !== "Content-Type")
    .map(([n, v]) => `request.Headers.TryAddWithoutValidation(${quoted(n)}, ${quoted(v)});\n`)
    .join("");
  const body =
    c.body === undefined
      ? ""
      : `request.Content = new StringContent(${quoted(c.body)}, System.Text.Encoding.UTF8, ${quoted(type)});\n`;
  return `using System;
using System.Net.Http;

using var client = new HttpClient();
using var request = new HttpRequestMessage(new HttpMethod(${quoted(c.method)}), ${quoted(c.url)});
${headers}${body}using var reply = await client.SendAsync(request);
Console.WriteLine((int)reply.StatusCode);
Console.WriteLine(await reply.Content.ReadAsStringAsync());
`;
};

const go = (c: Call): string => {
  const headers = c.headers.map(([n, v]) => `\trequest.Header.Set(${quoted(n)}, ${quoted(v)})\n`).join("");
  const body = c.body === undefined ? "nil" : `strings.NewReader(${quoted(c.body)})`;
  const strings = c.body === undefined ? "" : `\t"strings"\n`;
  return `package main

import (
\t"fmt"
\t"io"
\t"net/http"
${strings})

func main() {
\trequest, err := http.NewRequest(${quoted(c.method)}, ${quoted(c.url)}, ${body})
\tif err != nil {
\t\tpanic(err)
\t}
${headers}\treply, err := http.DefaultClient.Do(request)
\tif err != nil {
\t\tpanic(err)
\t}
\tdefer reply.Body.Close()
\ttext, _ := io.ReadAll(reply.Body)
\tfmt.Println(reply.StatusCode)
\tfmt.Println(string(text))
}
`;
};

const ruby = (c: Call): string => {
  const headers = c.headers.map(([n, v]) => `request[${single(n)}] = ${single(v)}\n`).join("");
  const body = c.body === undefined ? "" : `request.body = ${single(c.body)}\n`;
  return `require 'net/http'

uri = URI(${single(c.url)})
request = Net::HTTPGenericRequest.new(${single(c.method)}, ${c.body !== undefined}, true, uri)
${headers}${body}reply = Net::HTTP.start(uri.host, uri.port, use_ssl: uri.scheme == 'https') { |http| http.request(request) }
puts reply.code
puts reply.body
`;
};

const php = (c: Call): string => {
  const headers = c.headers.map(([n, v]) => `    ${single(`${n}: ${v}`)},\n`).join("");
  const body = c.body === undefined ? "" : `curl_setopt($call, CURLOPT_POSTFIELDS, ${single(c.body)});\n`;
  return `<?php
$call = curl_init(${single(c.url)});
curl_setopt($call, CURLOPT_CUSTOMREQUEST, ${single(c.method)});
curl_setopt($call, CURLOPT_RETURNTRANSFER, true);
curl_setopt($call, CURLOPT_HTTPHEADER, [
${headers}]);
${body}$reply = curl_exec($call);
echo curl_getinfo($call, CURLINFO_RESPONSE_CODE), "\\n", $reply, "\\n";
`;
};

/** Rust has `\u{…}` where JSON has `\u…`. */
const rusty = (text: string): string =>
  quoted(text)
    .replace(/\\u([0-9a-f]{4})/g, "\\u{$1}")
    .replace(/\\[bf]/g, " ");

const rust = (c: Call): string => {
  const headers = c.headers.map(([n, v]) => `        .header(${rusty(n)}, ${rusty(v)})\n`).join("");
  const body = c.body === undefined ? "" : `        .body(${rusty(c.body)})\n`;
  return `// Cargo.toml: reqwest = { version = "0.12", features = ["blocking"] }
fn main() -> Result<(), Box<dyn std::error::Error>> {
    let reply = reqwest::blocking::Client::new()
        .request(reqwest::Method::from_bytes(b${quoted(c.method)})?, ${rusty(c.url)})
${headers}${body}        .send()?;
    println!("{}", reply.status());
    println!("{}", reply.text()?);
    Ok(())
}
`;
};

/** Swift has `\u{…}` too. */
const swiftly = (text: string): string =>
  quoted(text)
    .replace(/\\u([0-9a-f]{4})/g, "\\u{$1}")
    .replace(/\\[bf]/g, " ");

const swift = (c: Call): string => {
  const headers = c.headers
    .map(([n, v]) => `request.setValue(${swiftly(v)}, forHTTPHeaderField: ${swiftly(n)})\n`)
    .join("");
  const body = c.body === undefined ? "" : `request.httpBody = Data(${swiftly(c.body)}.utf8)\n`;
  return `import Foundation
#if canImport(FoundationNetworking)
import FoundationNetworking
#endif

var request = URLRequest(url: URL(string: ${swiftly(c.url)})!)
request.httpMethod = ${swiftly(c.method)}
${headers}${body}let (data, reply) = try await URLSession.shared.data(for: request)
print((reply as! HTTPURLResponse).statusCode)
print(String(decoding: data, as: UTF8.self))
`;
};

const kotlin = (c: Call): string => {
  const headers = c.headers.map(([n, v]) => `        .header(${quoted(n, true)}, ${quoted(v, true)})\n`).join("");
  const body =
    c.body === undefined
      ? "HttpRequest.BodyPublishers.noBody()"
      : `HttpRequest.BodyPublishers.ofString(${quoted(c.body, true)})`;
  return `import java.net.URI
import java.net.http.HttpClient
import java.net.http.HttpRequest
import java.net.http.HttpResponse

fun main() {
    val request = HttpRequest.newBuilder(URI.create(${quoted(c.url, true)}))
        .method(${quoted(c.method, true)}, ${body})
${headers}        .build()
    val reply = HttpClient.newHttpClient().send(request, HttpResponse.BodyHandlers.ofString())
    println(reply.statusCode())
    println(reply.body())
}
`;
};

export const LANGUAGES: Language[] = [
  { name: "curl", code: curl },
  { name: "Python", code: python },
  { name: "JavaScript", code: javascript },
  { name: "TypeScript", code: typescript },
  { name: "Java", code: java },
  { name: "C#", code: csharp },
  { name: "Go", code: go },
  { name: "Ruby", code: ruby },
  { name: "PHP", code: php },
  { name: "Rust", code: rust },
  { name: "Swift", code: swift },
  { name: "Kotlin", code: kotlin },
];

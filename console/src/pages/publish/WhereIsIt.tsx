import { useState } from "react";

import { Area, Button, Field, Fold, Notice, RowOf } from "../../parts";
import { ByTls } from "./ByTls";
import { base64, isOwnHost, samplesOwnHost, type Source, type Tls } from "./source";

/** Asks where to begin: with a definition, a sample call, or nothing. */
export function WhereIsIt({ isPending, onLook }: { isPending: boolean; onLook: (from: Source) => void }) {
  const [url, setUrl] = useState("");
  const [login, setLogin] = useState("");
  const [local, setLocal] = useState(false);
  const [tls, setTls] = useState<Tls>({});
  const [text, setText] = useState("");
  const [sample, setSample] = useState("");
  const [exchanges, setExchanges] = useState("");
  const [file, setFile] = useState<File>();
  const [unreadable, setUnreadable] = useState("");
  const address = url.trim();
  const calls = isOwnHost(address) || samplesOwnHost(sample);
  const look = async () => {
    setUnreadable("");
    if (file) onLook({ url: "", files: {}, upload: await base64(file), name_of_upload: file.name });
    else if (sample.trim()) onLook({ url: "", files: {}, sample, ...tls, allow_local: local });
    else if (exchanges.trim()) onLook({ url: "", files: {}, exchanges });
    else if (address) onLook({ url: address, login, ...tls, allow_local: local, files: {} });
    else onLook({ url: "", files: { "definition.wsdl": text } });
  };
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        look().catch((e: unknown) => setUnreadable(e instanceof Error ? e.message : "The file cannot be read"));
      }}
      style={{ display: "grid", gap: 12 }}
    >
      <Field
        label="Address of a WSDL, an OpenAPI document, OData metadata or a catalogue; or HOST:PORT of a gRPC server"
        value={url}
        onChange={setUrl}
      />
      {(calls || local) && (
        <label style={{ display: "flex", gap: 8, alignItems: "center", minHeight: 24 }}>
          <input type="checkbox" checked={local} onChange={(e) => setLocal(e.target.checked)} />
          This is an address of the porch’s own host: call it all the same
        </label>
      )}
      {address !== "" && (
        <Fold title="It asks for a name and a password">
          <Field
            label="NAME:PASSWORD for this address; not kept"
            value={login}
            onChange={setLogin}
            type="password"
            autoComplete="off"
          />
        </Fold>
      )}
      {(address !== "" || sample.trim() !== "") && <ByTls tls={tls} onTls={setTls} />}
      <label style={{ display: "grid", gap: 4 }}>
        Or upload it: one file, or a ZIP with all that it imports
        <input
          type="file"
          accept=".zip,.wsdl,.xml,.xsd,.yaml,.yml,.json,.proto,.pb,.bin,.desc,.txt"
          onChange={(e) => setFile(e.target.files?.[0])}
          style={{ minHeight: 28 }}
        />
      </label>
      <Fold title="Or paste it">
        <Area aria-label="Definition" rows={8} value={text} onChange={(e) => setText(e.target.value)} />
      </Fold>
      <Fold title="Or paste sample calls: they are made once, and the contract follows from what comes back">
        <Area
          aria-label="Sample calls"
          placeholder="curl 'https://…' -H 'Accept: application/json'"
          rows={5}
          value={sample}
          onChange={(e) => setSample(e.target.value)}
        />
      </Fold>
      <Fold title="Or begin without a backend: operations answer with examples until they call one">
        <Area
          aria-label="Operations"
          placeholder={
            'GET /berths/{berth} {"berth": "N7", "length": 31}\nPOST /berths\n\n{"length": 31}\n\nHTTP/1.1 201 Created\n\n{"berth": "N8"}'
          }
          rows={7}
          value={exchanges}
          onChange={(e) => setExchanges(e.target.value)}
        />
      </Fold>
      <RowOf>
        <Button
          type="submit"
          $kind="main"
          isDisabled={isPending || !(address || text.trim() || file || sample.trim() || exchanges.trim())}
        >
          Look
        </Button>
      </RowOf>
      {unreadable && <Notice $tone="bad">{unreadable}</Notice>}
    </form>
  );
}

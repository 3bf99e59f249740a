import { useState } from "react";

import { Area, Button, Field, Fold, Notice, RowOf } from "../../parts";
import { base64, isOwnHost, type Source } from "./source";

/** Asks where a definition is: an address, a file, or a text. */
export function WhereIsIt({ isPending, onLook }: { isPending: boolean; onLook: (from: Source) => void }) {
  const [url, setUrl] = useState("");
  const [login, setLogin] = useState("");
  const [local, setLocal] = useState(false);
  const [text, setText] = useState("");
  const [file, setFile] = useState<File>();
  const [unreadable, setUnreadable] = useState("");
  const address = url.trim();
  const look = async () => {
    setUnreadable("");
    if (file) onLook({ url: "", files: {}, upload: await base64(file), name_of_upload: file.name });
    else if (address) onLook({ url: address, login, allow_local: local, files: {} });
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
        label="Address of a WSDL or an OpenAPI document, or HOST:PORT of a gRPC server"
        value={url}
        onChange={setUrl}
      />
      {(isOwnHost(address) || local) && (
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
      <RowOf>
        <Button type="submit" $kind="main" isDisabled={isPending || (!address && !text.trim() && !file)}>
          Look
        </Button>
      </RowOf>
      {unreadable && <Notice $tone="bad">{unreadable}</Notice>}
    </form>
  );
}

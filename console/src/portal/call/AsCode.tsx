import { useState } from "react";

import { Code, Copy, Pick, RowOf, Soft } from "../../parts";
import { LANGUAGES } from "../code/languages";
import { curlOf, type Parts } from "./FileBody";
import type { Call } from "./request";

/** The same call as code. The key is shown where it is only when somebody wants that. */
export function AsCode(props: { make: (key: string) => Call; ownKey: string; chosen?: [string, Parts] }) {
  const { make, ownKey, chosen } = props;
  const [name, setName] = useState("curl");
  const [withKey, setWithKey] = useState(false);
  // A body of files stands in no text: the client that reads files itself does.
  const languages = chosen ? LANGUAGES.filter((l) => l.name === "curl") : LANGUAGES;
  const language = languages.find((l) => l.name === name) ?? languages[0]!;
  const call = make(ownKey && withKey ? ownKey : "YOUR-KEY");
  const code = language.code(call) + (chosen ? ` ${curlOf(...chosen)}` : "");
  return (
    <div>
      <RowOf>
        <Pick
          label="The same call in"
          value={language.name}
          onChange={setName}
          choices={languages.map((l) => l.name)}
        />
        <Copy text={code} what={`the call in ${language.name}`} />
        {ownKey && (
          <label>
            <input type="checkbox" checked={withKey} onChange={(e) => setWithKey(e.target.checked)} /> with my key
          </label>
        )}
        {chosen && <Soft>Files are read from where it runs.</Soft>}
      </RowOf>
      <Code tabIndex={0} aria-label={`The call in ${language.name}`}>
        {code}
      </Code>
    </div>
  );
}

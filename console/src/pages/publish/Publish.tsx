import { useState } from "react";

import { api, useChange } from "../../api/client";
import { Button, Page, Problem, Sheet } from "../../parts";
import { useTitle } from "../../parts/title";
import { Found } from "./Found";
import { Offers } from "./Offers";
import { described, elsewhere, sameServer, type Source } from "./source";
import { WhereIsIt } from "./WhereIsIt";

/** An address as a command line has it, where other characters than quotes mean nothing. */
const quoted = (url: string) => `curl '${url.replaceAll("'", "%27")}'`;

/** Whether an address answers, and not with a definition. */
const isNoDefinition = (status: number, message: string, source: Source) =>
  status === 422 && /^https?:/.test(source.url) && message !== "The address must be allowed first";

export function Publish() {
  useTitle("Publish a backend");
  const [source, setSource] = useState<Source>({ url: "", files: {} });
  const look = useChange((from: Source) => {
    setSource(from);
    return api("POST /api/look", { body: from });
  });
  return (
    <Page>
      <h1>Publish a backend</h1>
      <Sheet>
        <h2>Where do you begin?</h2>
        <WhereIsIt isPending={look.isPending} onLook={(from) => look.mutate(from)} />
        {look.error && <Problem error={look.error} />}
        {look.error?.message === "The address must be allowed first" && (
          <div>
            <Button isDisabled={look.isPending} onPress={() => look.mutate({ ...source, allow_local: true })}>
              Allow {source.url || "it"} and look
            </Button>
          </div>
        )}
        {look.error && isNoDefinition(look.error.status, look.error.message, source) && (
          <div>
            <Button
              isDisabled={look.isPending}
              onPress={() =>
                look.mutate({
                  url: "",
                  files: {},
                  sample: quoted(source.url),
                  trust: source.trust,
                  server_name: source.server_name,
                  certificate: source.certificate,
                  certificate_key: source.certificate_key,
                  allow_local: source.allow_local,
                })
              }
            >
              Call it once, and take what it answers as a sample
            </Button>
          </div>
        )}
      </Sheet>
      {look.data && look.data.offers.length > 0 && (
        <Offers
          offers={look.data.offers}
          isPending={look.isPending}
          onLook={(url) => look.mutate({ ...source, url, ...(sameServer(url, source.url) ? {} : elsewhere) })}
        />
      )}
      {look.data && look.data.offers.length === 0 && (
        <Found key={look.data.title + look.submittedAt} look={look.data} source={described(source, look.data)} />
      )}
    </Page>
  );
}

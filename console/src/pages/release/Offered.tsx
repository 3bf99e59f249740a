import type { Offering } from "../../api/schema";
import { DraftTag, Fold, RowOf, Sheet, Soft } from "../../parts";
import { Diff } from "./Diff";

/** How offers and the portal differ, and which agreements that touches. */
export function Offered({ of }: { of: Offering }) {
  return (
    <>
      {of.offers
        .filter((o) => o.status !== "same")
        .map((o) => (
          <Sheet key={o.offer}>
            <RowOf>
              <h2>Offer {o.offer}</h2>
              <DraftTag status={o.status} />
            </RowOf>
            {o.changes.map((c) => (
              <div key={c}>{c}</div>
            ))}
            {o.then && (
              <Soft>
                {o.agreements === 1 ? "1 agreement holds" : `${o.agreements} agreements hold`}: {o.then}.
              </Soft>
            )}
            <Files of={o.files} />
          </Sheet>
        ))}
      {of.portal && of.portal !== "same" && (
        <Sheet>
          <RowOf>
            <h2>The portal</h2>
            <DraftTag status={of.portal} />
          </RowOf>
          <Files of={of.portal_files} />
        </Sheet>
      )}
    </>
  );
}

function Files({ of }: { of: Record<string, string> }) {
  return Object.entries(of).map(([file, text]) => (
    <Fold key={file} title={<code>{file}</code>}>
      <Diff text={text} />
    </Fold>
  ));
}

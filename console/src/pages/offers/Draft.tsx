import { api, useChange } from "../../api/client";
import { Button, Notice, Problem, RowOf, Soft } from "../../parts";

/** A link with which the portal is shown as the draft has it. */
export function Draft() {
  const make = useChange(() => api("POST /api/portal/preview"));
  return (
    <>
      <RowOf>
        <Button isDisabled={make.isPending} onPress={() => make.mutate(undefined)}>
          Look at the portal as drafted
        </Button>
        <Soft>Before it is released, by whoever has the link, for an hour.</Soft>
      </RowOf>
      {make.data && (
        <Notice $tone="accent" role="status">
          <a href={make.data.address} target="_blank" rel="noreferrer">
            The portal as it is drafted
          </a>
        </Notice>
      )}
      {make.error && <Problem error={make.error} />}
    </>
  );
}

import type { OfferView } from "../../api/schema";
import { Button, Sheet, Soft, Table } from "../../parts";

/** What an address offers in its catalogue, of which one is chosen. */
export function Offers(props: { offers: OfferView[]; isPending: boolean; onLook: (address: string) => void }) {
  return (
    <Sheet>
      <h2>What it offers</h2>
      <Table
        label="What it offers"
        head={["Definition", "Address", "Media type", ""]}
        empty="Nothing."
        rows={props.offers.map((o) => ({
          key: o.address,
          worth: [o.title, o.address, o.media_type],
          cells: [
            o.title || <Soft key="t">without a title</Soft>,
            <code key="a" style={{ overflowWrap: "anywhere" }}>
              {o.address}
            </code>,
            o.media_type,
            <Button key="l" isDisabled={props.isPending} onPress={() => props.onLook(o.address)}>
              Look
            </Button>,
          ],
        }))}
      />
    </Sheet>
  );
}

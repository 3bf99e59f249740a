import { type ReactNode, useState } from "react";
import { Dialog, Heading, Modal, ModalOverlay } from "react-aria-components";
import styled from "styled-components";

import { Button } from "./Button";
import { RowOf } from "./Layout";

/** A button whose deed harms somebody: one question that names the harm comes before it. */
export function Ask(props: {
  /** What the button says. */
  label: string;
  /** Its name for those who do not see what it stands beside. */
  name?: string;
  /** The question. */
  title: string;
  /** The harm. */
  children: ReactNode;
  /** What is done when the answer is yes. */
  onYes: () => void;
  isDisabled?: boolean;
  /** Whether the harm is known already. */
  isReady?: boolean;
}) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button $kind="bad" aria-label={props.name} isDisabled={props.isDisabled} onPress={() => setOpen(true)}>
        {props.label}
      </Button>
      <Over isOpen={open} onOpenChange={setOpen} isDismissable>
        <Modal>
          <Box role="alertdialog">
            <Heading slot="title">{props.title}</Heading>
            <div>{props.children}</div>
            <RowOf>
              <Button
                $kind="bad"
                isDisabled={props.isReady === false}
                onPress={() => {
                  setOpen(false);
                  props.onYes();
                }}
              >
                {props.label}
              </Button>
              <Button autoFocus onPress={() => setOpen(false)}>
                Leave it as it is
              </Button>
            </RowOf>
          </Box>
        </Modal>
      </Over>
    </>
  );
}

const Over = styled(ModalOverlay)`
  position: fixed;
  inset: 0;
  background: rgb(0 0 0 / 40%);
  display: grid;
  place-items: center;
  padding: var(--space-4);
  z-index: 10;
`;

const Box = styled(Dialog)`
  background: var(--sheet);
  color: var(--ink);
  border: 1px solid var(--line);
  border-radius: var(--round);
  padding: var(--space-4);
  max-width: 560px;
  display: grid;
  gap: var(--space-3);
  outline: none;
  h2 {
    margin: 0;
  }
`;

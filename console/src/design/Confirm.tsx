/** A button whose action cannot be undone: it asks first, in a dialog that names what will happen. */
import type {ReactNode} from 'react';
import {Dialog, DialogTrigger, Heading, Modal, ModalOverlay} from 'react-aria-components';
import styled from 'styled-components';
import {Button, type ButtonProps} from './Button';
import {May, type Role} from './may';
import {colour, font, space} from './tokens';

const Overlay = styled(ModalOverlay)`
  position: fixed;
  inset: 0;
  display: grid;
  place-items: center;
  padding: ${space.l};
  background: rgb(0 0 0 / 40%);
  z-index: 20;
`;
const Box = styled(Modal)`
  width: min(440px, 100%);
  max-height: 100%;
  overflow: auto;
  background: ${colour('sheet')};
  color: ${colour('ink')};
  border: 1px solid ${colour('line')};
  border-radius: 4px;
  font: 14px/1.45 ${font.sans};
  > section {
    display: grid;
    gap: ${space.m};
    padding: ${space.xl};
    outline: none;
  }
  footer {
    display: flex;
    gap: ${space.s};
    justify-content: end;
  }
`;

interface ConfirmProps {
  /** What the button says. */
  label: ReactNode;
  /** What a screen reader calls the button, where the label alone does not tell it from its siblings. */
  name?: string;
  /** The question, with the name of what it is about: "Delete webhook ticket desk?" */
  title: string;
  /** What will happen, and what stays. */
  children: ReactNode;
  /** The verb on the button that goes ahead. */
  action: string;
  onConfirm: () => void;
  tone?: ButtonProps['tone'];
  isDisabled?: boolean;
  needs?: Role;
}

export const Confirm = ({needs, ...props}: ConfirmProps) => (
  <May needs={needs}>
    <Asking {...props} />
  </May>
);

const Asking = ({label, name, title, children, action, onConfirm, tone, isDisabled}: ConfirmProps) => (
  <DialogTrigger>
    <Button tone={tone} isDisabled={isDisabled} aria-label={name}>
      {label}
    </Button>
    <Overlay isDismissable>
      <Box>
        <Dialog role="alertdialog">
          {({close}) => (
            <>
              <Heading slot="title" style={{margin: 0, fontSize: 17}}>
                {title}
              </Heading>
              <p>{children}</p>
              <footer>
                <Button onPress={close}>Cancel</Button>
                <Button
                  tone="danger"
                  onPress={() => {
                    onConfirm();
                    close();
                  }}
                >
                  {action}
                </Button>
              </footer>
            </>
          )}
        </Dialog>
      </Box>
    </Overlay>
  </DialogTrigger>
);

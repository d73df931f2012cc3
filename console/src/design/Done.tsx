/** What was just done, and one button to undo it. One message at a time; it stays for a while, and by the letter u it is undone. */
import {createContext, useCallback, useContext, useEffect, useMemo, useState, type ReactNode} from 'react';
import styled from 'styled-components';
import {Button} from './Button';
import {isTyping} from './listKeys';
import {colour, space} from './tokens';

export interface Done {
  text: string;
  /** Undoes it; what it returns is said then. */
  undo?: () => Promise<string>;
}

const STAYS = 30_000; // milliseconds
const Tell = createContext<(done: Done) => void>(() => {});
const Region = styled.div`
  position: fixed;
  z-index: 20;
  left: ${space.l};
  bottom: ${space.l};
  max-width: min(560px, calc(100vw - 32px));
`;
const Message = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s} ${space.m};
  align-items: center;
  padding: ${space.s} ${space.m};
  background: ${colour('sheet')};
  border: 1px solid ${colour('ink')};
  border-radius: 4px;
  font-size: 13px;
  p {
    flex: 1 1 auto;
    overflow-wrap: anywhere;
  }
`;

/** Notifies people of what was done; gives nothing where there is no `DoneRegion`, as in tests of a part. */
export const useDone = () => useContext(Tell);

export function DoneRegion({children}: {children: ReactNode}) {
  const [done, setDone] = useState<Done | null>(null);
  const [undoing, setUndoing] = useState(false);
  const tell = useMemo(() => (next: Done) => setDone(next), []);
  const undo = useCallback(async () => {
    if (!done?.undo || undoing) return;
    setUndoing(true);
    try {
      setDone({text: await done.undo()});
    } catch (error) {
      setDone({text: `Not undone: ${error instanceof Error ? error.message : 'the service did not answer'}`});
    } finally {
      setUndoing(false);
    }
  }, [done, undoing]);
  useEffect(() => {
    if (!done) return;
    const timer = setTimeout(() => setDone(null), STAYS);
    const press = (event: KeyboardEvent) => {
      if (event.key !== 'u' || event.ctrlKey || event.metaKey || event.altKey || isTyping(event.target)) return;
      if (!done.undo) return;
      event.preventDefault();
      void undo();
    };
    window.addEventListener('keydown', press);
    return () => {
      clearTimeout(timer);
      window.removeEventListener('keydown', press);
    };
  }, [done, undo]);
  return (
    <Tell.Provider value={tell}>
      {children}
      <Region role="status">
        {done && (
          <Message>
            <p>{done.text}</p>
            {done.undo && (
              <Button onPress={() => void undo()} isDisabled={undoing}>
                Undo
              </Button>
            )}
            <Button tone="link" onPress={() => setDone(null)}>
              Close
            </Button>
          </Message>
        )}
      </Region>
    </Tell.Provider>
  );
}

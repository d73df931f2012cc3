import {useState} from 'react';
import {Button} from './Button';

/** Copies exactly `value`, and says so. */
export function CopyButton({value, children, tone}: {value: string; children: string; tone?: 'main' | 'plain'}) {
  const [state, setState] = useState('');
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(value);
      setState('Copied');
    } catch {
      setState('Copying failed: select the text and copy it');
    }
    setTimeout(() => setState(''), 2000);
  };
  return (
    <Button tone={tone} needs="viewer" onPress={() => void copy()}>
      {state || children}
    </Button>
  );
}

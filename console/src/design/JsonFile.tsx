/** A document that people edit as a form, as a file: exported as JSON, and imported into the form from JSON. */
import {useState} from 'react';
import {FileTrigger} from 'react-aria-components';
import {Button} from './Button';
import {download} from './csv';
import {May} from './may';
import {Notice} from './Notice';
import {Row} from './Stack';

interface JsonFileProps {
  /** What the document is, such as "policy". */
  what: string;
  file: string;
  value: unknown;
  /** Take over what a file says; an Error says why it cannot be used. */
  onRead: (value: unknown) => void;
}

export function JsonFile({what, file, value, onRead}: JsonFileProps) {
  const [wrong, setWrong] = useState('');
  const read = async (chosen: File) => {
    try {
      onRead(JSON.parse(await chosen.text()));
      setWrong('');
    } catch (error) {
      setWrong((error as Error).message);
    }
  };
  return (
    <>
      <Row>
        <Button tone="link" onPress={() => download(file, JSON.stringify(value, null, 2), 'application/json')}>
          Export {what} (JSON)
        </Button>
        <May>
          <FileTrigger
            acceptedFileTypes={['application/json', '.json']}
            onSelect={(files) => files?.[0] && void read(files[0])}
          >
            <Button tone="link">Import {what} (JSON)</Button>
          </FileTrigger>
        </May>
      </Row>
      {wrong && <Notice title={`The file is not a ${what} in JSON`}>{wrong}</Notice>}
    </>
  );
}

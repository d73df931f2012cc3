/** Files come in here: chosen with a button, or dropped on it. */
import {DropZone, FileTrigger, Text, type FileDropItem} from 'react-aria-components';
import styled from 'styled-components';
import {Button} from './Button';
import {colour, space} from './tokens';

const Zone = styled(DropZone)`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s} ${space.m};
  align-items: center;
  padding: ${space.m};
  border: 1px dashed ${colour('line')};
  border-radius: 4px;
  color: ${colour('soft')};
  &[data-drop-target] {
    border-color: ${colour('rust')};
    color: ${colour('ink')};
  }
  &[data-focus-visible] {
    outline: 2px solid ${colour('rust')};
  }
`;

interface FilePickerProps {
  /** What the button says. */
  label: string;
  /** What kind of file, shown beside the button. */
  hint: string;
  /** Media types and extensions that the file chooser offers; a dropped file of another kind is taken as well. */
  accept?: string[];
  isDisabled?: boolean;
  /** Takes one file. */
  onFile?: (file: File) => void;
  /** Takes several files together. */
  onFiles?: (files: File[]) => void;
}

export const FilePicker = ({label, hint, accept, isDisabled, onFile, onFiles}: FilePickerProps) => (
  <Zone
    aria-label={label}
    isDisabled={isDisabled}
    onDrop={(event) => {
      const items = event.items.filter((each): each is FileDropItem => each.kind === 'file');
      if (onFiles) void Promise.all(items.map((each) => each.getFile())).then(onFiles);
      else if (items[0] && onFile) void items[0].getFile().then(onFile);
    }}
  >
    <FileTrigger
      acceptedFileTypes={accept}
      allowsMultiple={!!onFiles}
      onSelect={(files) => {
        if (!files?.length) return;
        if (onFiles) onFiles([...files]);
        else onFile?.(files[0]!);
      }}
    >
      <Button isDisabled={isDisabled}>{label}</Button>
    </FileTrigger>
    <Text slot="label">{hint}</Text>
  </Zone>
);

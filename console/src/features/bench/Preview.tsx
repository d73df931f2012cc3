/** What a reader would see, in a frame that runs and loads nothing. */
import {useMemo, useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Small} from '../../design/Card';
import {CheckField} from '../../design/CheckField';
import {Choice} from '../../design/Choice';
import {Row, Stack} from '../../design/Stack';
import {colour} from '../../design/tokens';
import {previewOf, SANDBOX} from './preview';

const WIDTHS = [
  {value: '375', label: 'Phone, 375 px'},
  {value: '600', label: 'Tablet, 600 px'},
  {value: '800', label: 'Desktop, 800 px'},
];
const Scroll = styled.div`
  overflow-x: auto;
  border: 1px solid ${colour('line')};
`;
const Frame = styled.iframe<{$dark: boolean}>`
  display: block;
  border: 0;
  height: 560px;
  background: ${({$dark}) => ($dark ? '#1b1b1b' : '#ffffff')};
  color-scheme: ${({$dark}) => ($dark ? 'dark' : 'light')};
`;

/** A row of a message list: subject and first text, cut where the width ends. */
const Listed = styled.div`
  display: grid;
  max-width: 100%;
  padding: 8px 10px;
  border: 1px solid ${colour('line')};
  background: ${colour('paper')};
  > * {
    overflow: hidden;
    white-space: nowrap;
    text-overflow: ellipsis;
  }
`;

export function Preview({assay, html}: {assay: Schemas['Assay']; html: string}) {
  const support = assay.support ?? null;
  const [family, setFamily] = useState('');
  const [width, setWidth] = useState('600');
  const [dark, setDark] = useState(false);
  const [images, setImages] = useState(true);
  const page = useMemo(() => {
    const lacking = support?.constructs.filter((each) => each.support[family] === 'no') ?? [];
    return previewOf(html, {images, dark, without: lacking.map((each) => each.key)});
  }, [html, images, dark, family, support]);
  return (
    <Stack>
      <Row>
        <Choice label="Width" value={width} options={WIDTHS} onChange={setWidth} />
        {support && (
          <Choice
            label="Program"
            value={family || 'all'}
            options={[
              {value: 'all', label: 'A browser engine'},
              ...support.families.map((each) => ({value: each.key, label: each.title})),
            ]}
            onChange={(value) => setFamily(value === 'all' ? '' : value)}
          />
        )}
        <CheckField label="Dark" isSelected={dark} onChange={setDark} />
        <CheckField label="Image placeholders" isSelected={images} onChange={setImages} />
        <Small>Nothing is loaded: images are boxes of their size. Links show their target when pointed at.</Small>
      </Row>
      <Listed aria-label="In a message list" role="group" style={{width: `${width}px`}}>
        <b>{assay.header_from.replace(/\s*<[^>]*>$/, '').replace(/^"(.*)"$/, '$1')}</b>
        <span>{assay.subject || '(no subject)'}</span>
        <Small>{assay.preview_line}</Small>
      </Listed>
      <Scroll>
        <Frame
          key={`${width}${dark}${family}`}
          title="The message as a reader would see it"
          sandbox={SANDBOX}
          referrerPolicy="no-referrer"
          srcDoc={page}
          $dark={dark}
          style={{width: `${width}px`}}
        />
      </Scroll>
    </Stack>
  );
}

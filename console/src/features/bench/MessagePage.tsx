/** One caught message: its assay, and how it came. */
import {Link, useNavigate, useParams} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Small, Soft} from '../../design/Card';
import {Confirm} from '../../design/Confirm';
import {DataTable} from '../../design/DataTable';
import {CopyButton} from '../../design/CopyButton';
import {ago, count, stamp, zoneName} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {Row, Stack} from '../../design/Stack';
import {colour, font, space} from '../../design/tokens';
import {AssayView} from './AssayView';
import {
  sourceAddress,
  useCaughtAssay,
  useConversation,
  useDeleteMessage,
  useMessage,
  useRecheck,
  useSource,
} from './queries';
import {Mono, pathOf} from './TraysCard';

const MOST_SHOWN = 400_000; // octets
const Facts = styled.dl`
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 2px ${space.m};
  margin: 0;
  dt {
    color: ${colour('soft')};
    font-size: 12px;
    line-height: 20px;
  }
  dd {
    margin: 0;
    overflow-wrap: anywhere;
  }
`;
const Said = styled.ol`
  list-style: none;
  margin: ${space.m} 0 0;
  padding: 0;
  max-height: 480px;
  overflow: auto;
  font: 12px/1.6 ${font.mono};
  li {
    display: grid;
    grid-template-columns: 72px 20px minmax(0, 1fr);
    overflow-wrap: anywhere;
  }
  li > span:first-child {
    text-align: right;
    padding-right: 12px;
    color: ${colour('soft')};
  }
  li[data-side='client'] {
    font-weight: 600;
  }
`;
const Raw = styled.pre`
  margin: 0;
  max-height: 560px;
  overflow: auto;
  font: 12px/1.5 ${font.mono};
  white-space: pre-wrap;
  overflow-wrap: anywhere;
`;
const VIA = {
  smtp: 'SMTP, signed in to the tray',
  address: 'the tray’s own address, from outside',
  upload: 'a file',
  feed: 'a feed',
};

export function MessagePage() {
  const {tenant = '', name = '', id = ''} = useParams();
  const path = {tenant, name, id: Number(id)};
  const message = useMessage(path);
  const assay = useCaughtAssay(path);
  const recheck = useRecheck(path);
  const remove = useDeleteMessage(path);
  const navigate = useNavigate();
  const there = message.data;
  return (
    <Stack>
      <header>
        <h1 style={{margin: '0 0 4px'}}>
          <Link to={`/bench?tenant=${tenant}`}>Bench</Link> / <Link to={pathOf(tenant, name)}>{name}</Link> / {id}
        </h1>
        <Row>
          <Button changes needs="operator" isDisabled={recheck.isPending} onPress={() => recheck.mutate(undefined)}>
            {recheck.isPending ? 'Examining …' : 'Re-check'}
          </Button>
          <a href={sourceAddress(path)} download>
            Download
          </a>
          <Confirm
            label="Delete"
            title={`Delete message ${id}?`}
            action="Delete"
            needs="operator"
            onConfirm={() => remove.mutate(undefined, {onSuccess: () => void navigate(pathOf(tenant, name))})}
          >
            Its octets, conversation and assay go with it.
          </Confirm>
        </Row>
      </header>
      {(message.error ?? remove.error ?? recheck.error) && (
        <Trouble error={(message.error ?? remove.error ?? recheck.error)!} />
      )}
      {assay.isPending && <Loading what="the assay" />}
      {assay.error && <Trouble error={assay.error} again={() => void assay.refetch()} />}
      {assay.data && (
        <AssayView
          assay={assay.data}
          more={[
            {id: 'way', title: 'Arrival', content: () => <Conversation path={path} message={there} />},
            {id: 'raw', title: 'Raw', content: () => <RawView path={path} />},
            ...(there && there.attachments.length > 0
              ? [
                  {
                    id: 'attachments',
                    title: 'Attachments',
                    content: () => <Attachments path={path} attachments={there.attachments} />,
                  },
                ]
              : []),
          ]}
          codes={there?.codes}
        />
      )}
    </Stack>
  );
}

function Conversation({
  path,
  message,
}: {
  path: {tenant: string; name: string; id: number};
  message?: Schemas['ParsedMessage'];
}) {
  const told = useConversation(path);
  if (told.isPending || !message) return <Loading what="the conversation" />;
  if (told.error) return <Trouble error={told.error} again={() => void told.refetch()} />;
  const {client_ip, helo, tls, cipher, steps} = told.data;
  return (
    <Stack>
      <Facts>
        <dt>Came by</dt>
        <dd>{VIA[message.via]}</dd>
        <dt>Arrived</dt>
        <dd>
          {stamp(message.arrived_at)} {zoneName()} <Small>{ago(message.arrived_at)}</Small>
        </dd>
        <dt>MAIL FROM</dt>
        <dd>
          <Mono>{message.mail_from || '<>'}</Mono>
        </dd>
        <dt>Recipients</dt>
        <dd>
          <Mono>{message.recipients.join(', ')}</Mono>
        </dd>
        {client_ip && (
          <>
            <dt>Client</dt>
            <dd>
              <Mono>
                {client_ip} {helo}
              </Mono>
            </dd>
            <dt>TLS</dt>
            <dd>{tls ? `${tls}, ${cipher}` : 'none'}</dd>
          </>
        )}
      </Facts>
      {(steps ?? []).length === 0 ? (
        <Soft>The message did not come by SMTP.</Soft>
      ) : (
        <Said aria-label="SMTP conversation">
          {steps!.map((step, at) => (
            <li key={at} data-side={step.side}>
              <span>{step.at.toFixed(3)} s</span>
              <span aria-label={step.side}>{step.side === 'client' ? '→' : '←'}</span>
              <span>{step.text}</span>
            </li>
          ))}
        </Said>
      )}
    </Stack>
  );
}

/** Octets as text: printable ASCII as it is, everything else as \xhh; line ends are those of the message. */
export function readable(octets: Uint8Array): string {
  let out = '';
  for (const octet of octets) {
    if (octet === 10) out += '\n';
    else if (octet === 9 || (octet > 31 && octet < 127)) out += String.fromCharCode(octet);
    else if (octet !== 13) out += `\\x${octet.toString(16).padStart(2, '0')}`;
  }
  return out;
}

function RawView({path}: {path: {tenant: string; name: string; id: number}}) {
  const source = useSource(path);
  if (source.isPending) return <Loading what="the octets" />;
  if (source.error) return <Trouble error={source.error} again={() => void source.refetch()} />;
  const text = readable(source.data.slice(0, MOST_SHOWN));
  return (
    <Stack>
      <Row>
        <CopyButton value={text}>Copy</CopyButton>
        <Small>
          {count(source.data.length)} octets as they came; those that are not printable are shown as \x and two digits
          {source.data.length > MOST_SHOWN && `; the first ${count(MOST_SHOWN)} are shown, the download has all`}
        </Small>
      </Row>
      <Raw>{text}</Raw>
    </Stack>
  );
}

interface AttachmentsProps {
  path: {tenant: string; name: string; id: number};
  attachments: Schemas['Attachment'][];
}

const Attachments = ({path, attachments}: AttachmentsProps) => (
  <DataTable
    label="Attachments"
    file="attachments.csv"
    rows={attachments}
    id={(row) => row.number}
    columns={[
      {name: 'Part', value: (row) => row.number},
      {
        name: 'File',
        value: (row) => row.file_name,
        show: (row) => (
          <a href={sourceAddress(path).replace(/source$/, `parts/${row.number}`)} download={row.file_name || 'part'}>
            {row.file_name || '(no name)'}
          </a>
        ),
      },
      {name: 'Type', value: (row) => row.type},
      {name: 'Octets', value: (row) => row.size, show: (row) => count(row.size), number: true},
      {name: 'SHA-256', value: (row) => row.sha256, show: (row) => <Mono>{row.sha256.slice(0, 16)}…</Mono>},
    ]}
  />
);

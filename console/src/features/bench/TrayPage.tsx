/** One tray: its messages, the templates they are made from, how to send to it, and its settings. */
import {useState} from 'react';
import {Link, useNavigate, useParams} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {CheckField} from '../../design/CheckField';
import {DataTable, type Column} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FilePicker} from '../../design/FilePicker';
import {ago, count, plural} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Row, Stack} from '../../design/Stack';
import {Tabs} from '../../design/Tabs';
import {colour, space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {CompareView} from './CompareView';
import {ConnectionView} from './ConnectionView';
import {HistoryView} from './HistoryView';
import {useMessages, useTemplates, useTray, useUpload} from './queries';
import {TraySettings} from './TraySettings';
import {Mono, pathOf, Whole} from './TraysCard';

const MOST_COMPARED = 6;
const Head = styled.header`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s} ${space.l};
  align-items: baseline;
  h1 {
    margin: 0;
  }
`;
/** A mark as a number and what is left of 100. */
const Left = styled.span`
  display: inline-block;
  width: 46px;
  height: 7px;
  margin-left: 8px;
  border: 1px solid ${colour('line')};
  span {
    display: block;
    height: 100%;
    background: ${colour('soft')};
  }
`;

export function TrayPage() {
  const {tenant = '', name = ''} = useParams();
  const path = {tenant, name};
  const view = useView();
  const tray = useTray(path);
  const tab = view.get('view') || 'messages';
  const compared = view.get('compare').split(',').map(Number).filter(Boolean);
  if (tray.isPending) return <Loading what="the tray" />;
  if (tray.error) return <Trouble error={tray.error} again={() => void tray.refetch()} />;
  return (
    <Stack>
      <Head>
        <h1>
          <Link to={`/bench?tenant=${tenant}`}>Bench</Link> / {name}
        </h1>
        <Soft>{tray.data.title}</Soft>
        <Small>
          {plural(tray.data.messages, 'message')}, kept for {plural(tray.data.keep_days, 'day')}
        </Small>
        {tray.data.address && <Mono>{tray.data.address}</Mono>}
      </Head>
      {compared.length > 1 && tab === 'messages' && (
        <CompareView path={path} ids={compared} onClose={() => view.set('compare', '')} />
      )}
      <Tabs
        label="Views of the tray"
        value={tab}
        onChange={(value) => view.go('view', value === 'messages' ? '' : value)}
        tabs={[
          {id: 'messages', title: 'Messages', content: () => <Messages path={path} />},
          {id: 'templates', title: 'Templates', content: () => <Templates path={path} />},
          {id: 'connection', title: 'Connection', content: () => <ConnectionView path={path} />},
          {id: 'settings', title: 'Settings', content: () => <TraySettings path={path} tray={tray.data} />},
        ]}
      />
    </Stack>
  );
}

type Message = Schemas['CaughtMessage'];

const MarkCell = ({row}: {row: Pick<Message, 'mark' | 'state'>}) =>
  row.mark == null ? (
    <Small>{row.state === 'failed' ? 'not a message' : 'examining …'}</Small>
  ) : (
    <span style={{whiteSpace: 'nowrap', fontVariantNumeric: 'tabular-nums'}}>
      {row.mark.toFixed(1)}
      <Left aria-hidden>
        <span style={{width: `${row.mark}%`}} />
      </Left>
    </span>
  );

function Messages({path}: {path: {tenant: string; name: string}}) {
  const view = useView();
  const [subject, setSubject] = useState('');
  const [recipient, setRecipient] = useState('');
  const [chosen, setChosen] = useState<number[]>([]);
  const [pasted, setPasted] = useState('');
  const messages = useMessages(path, {
    subject: subject.trim() || undefined,
    recipient: recipient.trim() || undefined,
    template: view.get('template') || undefined,
  });
  const upload = useUpload(path);
  const rows = messages.data?.pages.flatMap((page) => page.items) ?? [];
  const toggle = (id: number, on: boolean) =>
    setChosen((now) => (on ? [...now, id].slice(-MOST_COMPARED) : now.filter((each) => each !== id)));
  const columns: Column<Message>[] = [
    {
      name: 'Compare',
      value: () => '',
      tool: true,
      show: (row) => (
        <CheckField
          label={`Compare message ${row.id}`}
          hidden
          isSelected={chosen.includes(row.id)}
          onChange={(on) => toggle(row.id, on)}
        />
      ),
    },
    {name: 'Mark', value: (row) => row.mark, show: (row) => <MarkCell row={row} />},
    {
      name: 'Worst',
      value: (row) => row.worst,
      show: (row) =>
        row.worst ? <Tag level={row.worst}>{row.worst}</Tag> : row.mark == null ? '' : <Small>none</Small>,
    },
    {
      name: 'Subject',
      value: (row) => row.subject,
      show: (row) => (
        <Link
          to={pathOf(path.tenant, path.name, `/${row.id}`)}
          style={{display: 'block', minWidth: '24ch', whiteSpace: 'normal'}}
        >
          {row.subject || '(no subject)'}
        </Link>
      ),
    },
    {name: 'From', value: (row) => row.header_from, show: (row) => <Whole>{row.header_from}</Whole>},
    {
      name: 'To',
      value: (row) => row.recipients.join(', '),
      show: (row) => <Mono style={{display: 'block', minWidth: '24ch'}}>{row.recipients.join(', ')}</Mono>,
    },
    {
      name: 'Client',
      value: (row) => row.client_ip || row.via,
      show: (row) => <Whole>{row.client_ip || row.via}</Whole>,
    },
    {name: 'Arrived', value: (row) => row.arrived_at, show: (row) => ago(row.arrived_at)},
    {name: 'Octets', value: (row) => row.size, show: (row) => count(row.size), number: true},
  ];
  return (
    <Stack>
      <Row style={{alignItems: 'end'}}>
        <Field label="Subject contains" value={subject} onChange={setSubject} />
        <Field label="Recipient" mono value={recipient} onChange={setRecipient} placeholder="kim@tidepost.example" />
        <Button
          needs="viewer"
          isDisabled={chosen.length < 2}
          onPress={() => view.set('compare', [...chosen].sort((a, b) => a - b).join(','))}
        >
          {chosen.length < 2 ? 'Compare (choose two to six)' : `Compare ${chosen.length}`}
        </Button>
        {view.get('template') && (
          <Button tone="link" needs="viewer" onPress={() => view.set('template', '')}>
            All templates
          </Button>
        )}
      </Row>
      {messages.isPending && <Loading what="messages" />}
      {messages.error && <Trouble error={messages.error} again={() => void messages.refetch()} />}
      {messages.data && rows.length === 0 && (
        <Notice title={subject || recipient ? 'No such message' : 'No messages yet'}>
          New ones appear here by themselves. <Link to="?view=connection">Settings for your mail library</Link>
        </Notice>
      )}
      {rows.length > 0 && (
        <Card title="Messages" note="newest first; new ones appear by themselves">
          <DataTable
            label={`Messages of ${path.name}`}
            columns={columns}
            rows={rows}
            id={(row) => String(row.id)}
            file={`messages-${path.name}.csv`}
          />
          {messages.hasNextPage && (
            <Button
              needs="viewer"
              isDisabled={messages.isFetchingNextPage}
              onPress={() => void messages.fetchNextPage()}
            >
              Show more
            </Button>
          )}
        </Card>
      )}
      <FilePicker
        label={upload.isPending ? 'Adding …' : 'Add a message from a file'}
        hint="or drop an .eml file here"
        accept={['.eml', 'message/rfc822']}
        isDisabled={upload.isPending}
        onFile={(file) => upload.mutate(file)}
      />
      <form
        onSubmit={(event) => {
          event.preventDefault();
          // Text fields have LF only; a message on its way has CRLF.
          upload.mutate(new Blob([pasted.replace(/\r?\n/g, '\r\n')]), {onSuccess: () => setPasted('')});
        }}
      >
        <Field
          label="Or paste the full source, with headers"
          mono
          lines={3}
          value={pasted}
          onChange={setPasted}
          placeholder="From: …"
        />
        <Button type="submit" needs="operator" changes isDisabled={upload.isPending || !pasted.trim()}>
          Add
        </Button>
      </form>
      {upload.error && <Trouble error={upload.error} />}
    </Stack>
  );
}

function Templates({path}: {path: {tenant: string; name: string}}) {
  const view = useView();
  const navigate = useNavigate();
  const templates = useTemplates(path);
  const shown = view.get('template');
  if (templates.isPending) return <Loading what="templates" />;
  if (templates.error) return <Trouble error={templates.error} again={() => void templates.refetch()} />;
  if (templates.data.length === 0)
    return <Notice title="No messages yet">Templates appear with their first message.</Notice>;
  return (
    <Stack>
      <Card title="Templates" note="by the header field that the settings name, or by the subject without its numbers">
        <DataTable
          label="Templates"
          file={`templates-${path.name}.csv`}
          rows={templates.data}
          id={(row) => row.series}
          columns={[
            {
              name: 'Template',
              value: (row) => row.series,
              show: (row) => (
                <Button tone="link" needs="viewer" onPress={() => view.set('template', row.series)}>
                  {row.series || '(no subject)'}
                </Button>
              ),
            },
            {name: 'Messages', value: (row) => row.count, number: true},
            {
              name: 'Newest mark',
              value: (row) => row.mark,
              show: (row) => (row.mark == null ? '' : row.mark.toFixed(1)),
              number: true,
            },
            {name: 'Newest', value: (row) => row.newest_at, show: (row) => ago(row.newest_at)},
          ]}
        />
      </Card>
      {shown && (
        <HistoryView
          path={path}
          template={shown}
          onOpen={(id) => void navigate(pathOf(path.tenant, path.name, `/${id}`))}
        />
      )}
    </Stack>
  );
}

import {cleanup, screen, within} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {onePage, open, problem, serviceWith, who, withBrowserParts} from '../../testing';
import {DoneRegion} from '../../design/Done';
import {dayOf} from '../wall/WallPage';
import {holders, linkOf} from './WorkItemCard';
import {asCsv, WorklistPage} from './WorklistPage';

withBrowserParts();
afterEach(cleanup);

const T = '/api/v1/tenants/copperline';
const item = (more: Partial<Schemas['WorkItemDetails']> = {}): Schemas['WorkItemDetails'] => ({
  id: 7,
  tenant: 'copperline',
  tenant_name: 'Copperline Tram Museum',
  kind: 'fault',
  subject: 'domain',
  name: 'copperline.example',
  title: '2 SPF records on copperline.example',
  text: 'Receivers give permerror.',
  level: 'fix',
  state: 'open',
  since: '2026-11-18T08:00:00Z',
  found_at: '2026-11-18T08:00:00Z',
  seen_at: '2026-11-20T08:00:00Z',
  notified_at: '2026-11-18T08:15:00Z',
  resolved_at: null,
  until: null,
  mail: 12_400,
  order: 'stop, 20 messages a week',
  remedy: 'Publish one merged record.',
  record: 'v=spf1 ip4:192.0.2.1 -all',
  evidence: ['two records'],
  recheck: 'audit',
  assigned_to: '',
  returns: 0,
  steps: [{at: '2026-11-18T08:00:00Z', by: '', what: 'found', text: '2 SPF records'}],
  ...more,
});
const people = [
  {email: 'isla@skerry.example', name: 'Isla Mackay', role: 'admin' as const, second_factor: false},
  {email: 'bram@skerry.example', name: 'Bram', role: 'admin' as const, second_factor: false},
];
const served = (found: Schemas['WorkItemDetails'], acted: unknown = found) =>
  serviceWith({
    'GET /api/v1/worklist': () => onePage([found]),
    [`GET ${T}/worklist/7`]: () => found,
    [`POST ${T}/worklist/7/actions`]: () => acted,
    [`GET ${T}/members`]: () => onePage(people),
    [`GET ${T}/lines`]: () => onePage([]),
  });
const page = (at = '/worklist/copperline/7') => open(<WorklistPage who={who} />, at, '/worklist/:tenant/:id');
const sent = (seen: ReturnType<typeof serviceWith>) =>
  seen.filter((each) => each.method === 'POST').map((each) => each.body);

describe('several items', () => {
  const both = [item(), item({id: 8, title: 'Key s1 not found'})];
  const serve = (acted: unknown) =>
    serviceWith({
      'GET /api/v1/worklist': () => onePage(both),
      [`GET ${T}/worklist/7`]: () => both[0],
      [`POST ${T}/worklist/actions`]: () => acted,
      [`GET ${T}/members`]: () => onePage(people),
      [`GET ${T}/lines`]: () => onePage([]),
    });
  const shown = () =>
    open(
      <DoneRegion>
        <WorklistPage who={who} />
      </DoneRegion>,
      '/worklist/copperline/7?tenant=copperline',
      '/worklist/:tenant/:id',
    );

  it('are acknowledged together, and the letter u undoes that', async () => {
    const seen = serve({changed: both, problems: []});
    shown();
    await userEvent.click(await screen.findByRole('checkbox', {name: 'Select Key s1 not found'}));
    await userEvent.keyboard('x'); // the open one
    const bar = screen.getByRole('group', {name: 'Selected items'});
    expect(within(bar).getByText('2 selected')).toBeTruthy();
    await userEvent.click(within(bar).getByRole('button', {name: 'Acknowledge'}));
    expect(await screen.findByText('2 items acknowledged.')).toBeTruthy();
    await userEvent.keyboard('u');
    expect(await screen.findByText('2 items as before.')).toBeTruthy();
    expect(sent(seen)).toEqual([
      {act: 'acknowledge', text: '', to: '', ids: [7, 8]},
      {act: 'undo', text: '', to: '', ids: [7, 8]},
    ]);
  });

  it('say which of them could not be changed', async () => {
    serve({changed: [both[0]], problems: [{line: null, field: 'ids.1', what: 'Item 8 is gone', remedy: ''}]});
    shown();
    await userEvent.click(await screen.findByRole('checkbox', {name: 'Select Key s1 not found'}));
    await userEvent.click(screen.getByRole('checkbox', {name: /2 SPF records/}));
    await userEvent.click(screen.getByRole('button', {name: 'Reopen'}));
    expect(await screen.findByText('1 item reopened. 1 item not: Item 8 is gone.')).toBeTruthy();
  });
});

describe('an item', () => {
  it('shows what is wrong, the evidence, the remedy and the record to copy', async () => {
    served(item());
    page();
    expect(await screen.findByText('Publish one merged record.')).toBeTruthy();
    expect(screen.getByText('two records')).toBeTruthy();
    expect(document.querySelector('code')!.textContent).toContain('v=spf1 ip4:192.0.2.1 -all');
    expect(screen.getByRole('button', {name: 'Copy record'})).toBeTruthy();
  });

  it('is measured again, acknowledged, and given to somebody', async () => {
    const seen = served(item());
    page();
    await userEvent.click(await screen.findByRole('button', {name: 'Re-check'}));
    await userEvent.click(screen.getByRole('button', {name: 'Acknowledge'}));
    await userEvent.click(screen.getByRole('button', {name: /Assigned to/}));
    await userEvent.click(await screen.findByRole('option', {name: 'Bram'}));
    expect(sent(seen)).toEqual([
      {act: 'recheck', text: '', to: ''},
      {act: 'acknowledge', text: '', to: ''},
      {act: 'assign', text: '', to: 'bram@skerry.example'},
    ]);
  });

  it('is deferred with a reason only', async () => {
    const seen = served(item());
    page();
    const off = await screen.findByRole('button', {name: 'Snooze'});
    expect(off).toHaveProperty('disabled', true);
    await userEvent.type(screen.getByRole('textbox', {name: 'Comment or reason'}), 'after the season');
    await userEvent.click(off);
    const [body] = sent(seen) as {act: string; text: string; until: string}[];
    expect(body).toMatchObject({act: 'snooze', text: 'after the season'});
    expect(Date.parse(body!.until) - Date.now()).toBeGreaterThan(6.9 * 86_400_000);
  });

  it('says why an act was refused', async () => {
    served(item(), problem(422, 'Say why', {remedy: 'A word for who comes after you'}));
    page();
    await userEvent.click(await screen.findByRole('button', {name: 'Re-check'}));
    expect(await screen.findByText(/A word for who comes after you/)).toBeTruthy();
  });

  it('that is closed can only be read', async () => {
    served(item({state: 'resolved', resolved_at: '2026-11-19T08:00:00Z'}));
    page();
    expect(await screen.findByText('Publish one merged record.')).toBeTruthy();
    expect(screen.queryByRole('button', {name: 'Re-check'})).toBeNull();
  });

  it.each([
    [{}, '/domains/copperline/copperline.example?view=records'],
    [{kind: 'pull' as const}, '/domains/copperline/copperline.example'],
    [{subject: 'relay' as const, name: 'Cobble Relay'}, '/readings/copperline/relay/Cobble%20Relay'],
    [{kind: 'reply' as const, subject: 'tenant' as const}, '/flow?tenant=copperline&view=causes'],
    [{kind: 'outage' as const, subject: 'provider' as const}, undefined],
  ])('leads to where one looks further', (more, to) => expect(linkOf(item(more))?.to).toBe(to));

  it('can be given to all who see its tenant, and says who has it', () => {
    expect(holders(people, 'isla@skerry.example').map((each) => each.value)).toEqual([
      'nobody',
      'isla@skerry.example',
      'bram@skerry.example',
    ]);
    expect(holders(people, 'gone@skerry.example').at(-1)).toEqual({
      value: 'gone@skerry.example',
      label: 'gone@skerry.example',
    });
  });
});

describe('an earlier day', () => {
  it.each([
    ['2026-11-19', '2026-11-19'],
    ['2026-11-20', ''],
    ['2027-01-01', ''],
    ['yesterday', ''],
    ['2026-99-99', ''],
  ])('%s is asked for as "%s"', (text, asked) => expect(dayOf(text, '2026-11-20')).toBe(asked));
});

describe('the list', () => {
  it('asks for what is given to me by my address', async () => {
    const seen = served(item());
    page('/worklist/copperline/7?state=mine');
    await screen.findByText('Publish one merged record.');
    const query = seen.find((each) => each.path === '/api/v1/worklist')!.query;
    expect([query.get('assigned_to'), query.get('state')]).toEqual(['isla@skerry.example', null]);
  });

  it('says what comes first, since when, and that it came back', async () => {
    served(item({returns: 2}));
    page();
    expect(await screen.findByText(/1 problem to fix, by level, then affected mail/)).toBeTruthy();
    expect(screen.getByText(/returned 2 times/)).toBeTruthy();
  });

  it('is exported with remedies and records', () => {
    const lines = asCsv([item({title: '=1+1'})]).split('\r\n');
    expect(lines[0]).toContain('remedy,record,assigned_to');
    expect(lines[1]).toContain('Publish one merged record.');
    expect(lines[1]).toContain("'=1+1");
  });
});

// The bench: what is sent to be examined, how an assay is shown, and a preview that runs and loads nothing.
import {cleanup, fireEvent, screen, within} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {open, problem, requestTo, serviceWith, who, withBrowserParts} from '../../testing';
import {BenchPage} from './BenchPage';
import {placeOf} from './Findings';
import {previewOf} from './preview';

withBrowserParts();
afterEach(cleanup);

const CALL = 'POST /api/v1/tenants/copperline/assays';
const assay: Schemas['Assay'] = {
  mark: 87.5,
  worst: 'fault',
  findings: [
    {
      rule: 'link-text-differs',
      group: 'links',
      level: 'fault',
      title: 'A link shows glasswort.example and leads to driftline.example',
      effect: 'That is how phishing works.',
      remedy: 'Let the text name the target.',
      reference: '',
      points: 8,
      count: 2,
      places: [{where: 'part', name: '1.2', line: 3, column: 7, text: '<a href="https://driftline.example/c">'}],
    },
    {
      rule: 'subject-exclaims',
      group: 'headers',
      level: 'note',
      title: 'The subject has several exclamation marks',
      effect: 'A weak sign of spam.',
      remedy: 'One is enough.',
      reference: '',
      points: 4.5,
      count: 1,
      places: [{where: 'header', name: 'Subject', line: 0, column: 0, text: 'Now!!'}],
    },
  ],
  not_checked: ['SPF: the address that the message was sent from is not known'],
  rules_dated: '2026-11-30',
  size: 1234,
  subject: 'Now!!',
  header_from: '"Box Office" <boxoffice@news.glasswort.example>',
  preview_line: 'Tickets from Friday',
  fields: [{name: 'Subject', value: 'Now!!', meaning: 'What people see first'}],
  parts: [{number: '1', type: 'text/html', size: 900, charset: 'utf-8', encoding: '', disposition: '', file_name: ''}],
  links: [],
  text: null,
  html: '<p>Hello</p>',
  visible_text: 'Hello',
  support: {
    dated: '2026-11-30',
    families: [
      {key: 'word', title: 'Word processor', short: 'Word', device: 'desktop'},
      {key: 'phone', title: 'Phone', short: 'Phone', device: 'phone'},
    ],
    constructs: [
      {
        key: 'property float',
        title: 'float',
        support: {word: 'no'},
        instead: 'Use a table.',
        count: 1,
        places: [{where: 'part', name: '1', line: 1, column: 1, text: '<p style="float:left">'}],
      },
    ],
  },
  authentication: null,
  results_header: '',
};

describe('examining a message', () => {
  it('sends what was pasted as it would be on its way, and shows the mark and its findings', async () => {
    const seen = serviceWith({[CALL]: () => assay});
    open(<BenchPage who={who} />);
    fireEvent.change(screen.getByLabelText(/paste the full source/), {target: {value: 'Subject: Now!!\n\n"Hello"'}});
    await userEvent.type(screen.getByLabelText('Sending IP, for SPF'), '192.0.2.9');
    await userEvent.click(screen.getByRole('button', {name: 'Examine'}));
    const mark = await screen.findByRole('status');
    expect(mark.textContent).toContain('Mark 87.5 of 100');
    expect(mark.textContent).toContain('1 fault −8');
    const asked = await requestTo(seen, CALL);
    expect(asked.query.get('ip')).toBe('192.0.2.9');
    expect(asked.body).toBe('Subject: Now!!\r\n\r\n"Hello"');
    const first = within(screen.getByRole('list', {name: 'Findings'})).getAllByRole('listitem')[0]!;
    expect(first.textContent).toContain('part 1.2, line 3, column 7');
    expect(first.textContent).toContain('2 times');
    expect(screen.getByText(/Not checked: SPF/)).toBeTruthy();
    await userEvent.click(screen.getByRole('tab', {name: 'Header'}));
    expect(screen.getByText('What people see first')).toBeTruthy();
    await userEvent.click(screen.getByRole('tab', {name: 'Text'}));
    expect(screen.getByText('The message has no text part.')).toBeTruthy();
    await userEvent.click(screen.getByRole('tab', {name: 'Support'}));
    expect(within(screen.getByRole('table', {name: 'Support'})).getByText('not')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: /Device/}));
    await userEvent.click(screen.getByRole('option', {name: 'Phone'}));
    expect(screen.getByText('Every family supports what the HTML uses.')).toBeTruthy();
    await userEvent.click(screen.getByRole('tab', {name: 'Preview'}));
    const listed = screen.getByRole('group', {name: 'In a message list'});
    expect(listed.textContent).toBe('Box OfficeNow!!Tickets from Friday');
    const frame = screen.getByTitle('The message as a reader would see it');
    expect(frame.getAttribute('sandbox')).toBe('');
    expect(frame.getAttribute('srcdoc')).toContain("default-src 'none'");
  });

  it('says why a message cannot be examined', async () => {
    serviceWith({[CALL]: () => problem(422, 'Invalid request', {detail: 'This is not a message: it has no header'})});
    open(<BenchPage who={who} />);
    fireEvent.change(screen.getByLabelText(/paste the full source/), {target: {value: 'x'}});
    await userEvent.click(screen.getByRole('button', {name: 'Examine'}));
    expect(await screen.findByText(/it has no header/)).toBeTruthy();
  });
});

describe('the preview', () => {
  it.each([
    ['<script>go()</script>', 'script'],
    ['<img src="https://d.example/a.png" onerror="go()">', 'd.example'],
    ['<p onclick="go()">x</p>', 'onclick'],
    ['<meta http-equiv="refresh" content="0;url=https://d.example/">', 'd.example'],
    ['<iframe src="https://d.example/"></iframe>', 'd.example'],
    ['<link rel="stylesheet" href="https://d.example/a.css">', 'd.example'],
    ['<base href="https://d.example/">', 'd.example'],
    ['<form action="https://d.example/"><button formaction="https://d.example/">x</button></form>', 'd.example'],
    ['<table background="https://d.example/a.png"><tr><td>x</td></tr></table>', 'd.example'],
    ['<svg><image xlink:href="https://d.example/a.png"/></svg>', 'd.example'],
    ['<video poster="https://d.example/a.png"></video>', 'd.example'],
  ])('takes out %s', (html, gone) => {
    const page = previewOf(`<p>Hello</p>${html}`, {images: true, dark: false});
    expect(page).toContain('Hello');
    expect(page.replace(/<style>:root.*?<\/style>/, '')).not.toContain(gone);
  });

  it('keeps links as text with their target, and images as boxes', () => {
    const page = previewOf('<a href="https://d.example/">Go</a><img alt="A stage" width="60" height="30" src="x">', {
      images: true,
      dark: true,
    });
    expect(page).toContain('title="https://d.example/"');
    expect(page).not.toContain('href=');
    expect(page).toMatch(/<span data-image="" style="width: 60px; height: 30px;[^"]*">A stage<\/span>/);
    expect(page).toContain('color-scheme:dark');
  });

  it('takes out what a family does not support', () => {
    const html = '<style>p{color:red}</style><p style="float:left;display:flex;color:blue">Hello</p><video></video>';
    const without = ['element style', 'element video', 'property float', 'property display:flex', 'selector :hover'];
    const page = previewOf(html, {images: true, dark: false, without});
    expect(page).toContain('<p style="color: blue;">Hello</p>');
    expect(page).not.toContain('color:red');
    expect(page).not.toContain('<video');
  });

  it('says in words where something is', () => {
    expect(placeOf({where: 'message', name: '', line: 4, column: 0, text: ''})).toBe('line 4');
    expect(placeOf({where: 'header', name: 'Date', line: 0, column: 0, text: ''})).toBe('Date');
  });
});

/** The report of a period for a client: shown just as they get it, printed, saved, mailed or shared by a link. */
import {useRef, useState} from 'react';
import {Link} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Soft} from '../../design/Card';
import {download} from '../../design/csv';
import {useDone} from '../../design/Done';
import {useMay} from '../../design/may';
import {Loading, Trouble} from '../../design/Notice';
import {colour, space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {useReport, useSendReport} from './queries';
import {ShareCard} from './ShareCard';

const Tools = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s};
  align-items: center;
  max-width: 900px;
  margin: 0 auto ${space.m};
  > h1 {
    margin-right: auto;
  }
  @media print {
    display: none;
  }
`;
const Sheet = styled.iframe`
  display: block;
  width: 100%;
  max-width: 900px;
  margin: 0 auto;
  border: 1px solid ${colour('line')};
  background: #fff;
  @media print {
    border: 0;
  }
`;
const Below = styled.div`
  max-width: 900px;
  margin: ${space.l} auto 0;
  @media print {
    display: none;
  }
`;
const LEAST_HEIGHT = 600;

export function ReportPage({who}: {who: Schemas['Who']}) {
  const view = useView(30);
  const tenant = who.tenants.find((each) => each.slug === view.tenant) ?? who.tenants[0]!;
  const days = Math.min(view.days, 90);
  const last = view.get('last');
  const report = useReport(tenant.slug, days, last);
  const send = useSendReport(tenant.slug);
  const may = useMay('operator');
  const tell = useDone();
  const [sharing, setSharing] = useState(false);
  const [height, setHeight] = useState(LEAST_HEIGHT);
  const sheet = useRef<HTMLIFrameElement>(null);
  if (report.isPending) return <Loading what="the report" />;
  if (report.error) return <Trouble error={report.error} />;
  const {html, title} = report.data;
  const query = view.tenant ? `?tenant=${view.tenant}` : '';
  const fit = () => {
    const inside = sheet.current?.contentDocument?.documentElement;
    if (inside) setHeight(Math.max(LEAST_HEIGHT, inside.scrollHeight));
  };
  const file = `${tenant.slug}-${report.data.first}-${report.data.last}.html`;
  return (
    <>
      <Tools>
        <h1>Client report</h1>
        {report.isPlaceholderData && <Soft role="status">Reading…</Soft>}
        <Button tone="main" needs="viewer" onPress={() => sheet.current?.contentWindow?.print()}>
          Print or save as PDF
        </Button>
        <Button needs="viewer" onPress={() => download(file, html, 'text/html;charset=utf-8')}>
          Download HTML
        </Button>
        <Button
          changes
          needs="operator"
          isDisabled={send.isPending}
          onPress={() =>
            send.mutate({days, last: last || undefined}, {onSuccess: () => tell({text: 'Report sent by mail.'})})
          }
        >
          Email
        </Button>
        <Button needs="viewer" aria-expanded={sharing} onPress={() => setSharing(!sharing)}>
          Share
        </Button>
        {may && <Link to={`/settings/reports${query}`}>Logo and colours</Link>}
      </Tools>
      {send.error && (
        <Below>
          <Trouble error={send.error} />
        </Below>
      )}
      {sharing && (
        <Below style={{marginBottom: 16}}>
          <ShareCard tenant={tenant.slug} days={days} last={last} />
        </Below>
      )}
      {/* The document runs no script, and its sandbox would not let it; the same origin only so that it can be measured and printed. */}
      <Sheet
        ref={sheet}
        title={title}
        srcDoc={html}
        sandbox="allow-same-origin allow-modals"
        style={{height}}
        onLoad={fit}
      />
    </>
  );
}

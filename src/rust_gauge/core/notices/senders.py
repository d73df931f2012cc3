"""Who sends a notice: a machine, a mailbox that replies by itself, or a person. Only machines send bounces."""

import re

from rust_gauge.core.mime import Entity, words

_LONG = 1000  # characters of a field that are looked at
_COMMENT = re.compile(r"\((?:[^()\\]|\\.){0,200}\)")
_AUTO_SUBJECTS = (
    # English
    r"auto(?:matic|mated)?[- ]?(?:reply|response|respond|answer)",
    r"out of (?:the )?office",
    r"(?:i am|i'm|currently) (?:away|out|on)",
    r"away from",
    r"on (?:vacation|holiday|leave|annual leave|parental leave|maternity leave)",
    r"vacation",
    r"\booo\b",
    # German, French, Spanish, Portuguese, Italian, Dutch
    r"abwesenheit",
    r"abwesend",
    r"automatische antwort",
    r"auto-?antwort",
    r"urlaub",
    r"nicht im (?:büro|haus)",
    r"r[eé]ponse automatique",
    r"absence",
    r"absente?\b",
    r"en (?:cong[eé]s?|vacances)",
    r"respuesta autom[aá]tica",
    r"fuera de (?:la )?oficina",
    r"ausente",
    r"de vacaciones",
    r"resposta autom[aá]tica",
    r"fora do escrit[oó]rio",
    r"aus[eê]ncia",
    r"de f[eé]rias",
    r"risposta automatica",
    r"fuori (?:sede|ufficio)",
    r"assente",
    r"assenza",
    r"in ferie",
    r"automatisch (?:antwoord|bericht)",
    r"afwezig",
    r"niet aanwezig",
    r"met vakantie",
    # Polish, Czech, Hungarian, Swedish, Danish, Norwegian, Finnish
    r"automatyczna odpowied[zź]",
    r"autoodpowied[zź]",
    r"nieobecno[sś][cć]",
    r"poza biurem",
    r"urlop",
    r"automatick[aá] odpov[eě]",
    r"nep[rř][ií]tomnost",
    r"mimo kancel[aá][rř]",
    r"dovolen[aá]",
    r"automatikus v[aá]lasz",
    r"h[aá]zon k[ií]v[uü]l",
    r"szabads[aá]g",
    r"t[aá]vol(?:l[eé]t| vagyok)",
    r"auto-?svar",
    r"automatis(?:kt|k) svar",
    r"fr[aå]nvaro",
    r"semester",
    r"frav[aæ]r",
    r"ferie",
    r"automaattinen vastaus",
    r"poissa",
    # Ukrainian, Russian, Turkish
    r"автоматична відповідь",
    r"автовідповід",
    r"відсутн",
    r"у відпустці",
    r"автоматический ответ",
    r"автоответ",
    r"отсутств",
    r"в отпуске",
    r"otomatik (?:yan[ıi]t|cevap)",
    r"ofis d[ıi][sş][ıi]",
    r"izinde",
    # Japanese, Chinese, Korean
    r"自動(?:返信|応答|回覆)",
    r"不在",
    r"休暇",
    r"自动(?:回复|答复|回覆)",
    r"外出",
    r"休假",
    r"자동 ?(?:회신|응답|답장)",
    r"부재 ?중",
    r"휴가",
)
_AUTO_SUBJECT = re.compile(
    r"\s*(?:(?:re|aw|sv|odp|fwd?|antw|tr|rv|res)\s*:\s*|\[[^\]]{0,40}\]\s*|auto(?:mat\w*)?\s*[:-]\s*)*"
    rf"(?:{'|'.join(_AUTO_SUBJECTS)})",
    re.IGNORECASE,
)
_BOUNCE_SUBJECTS = (
    "un-?deliver",
    "deliver(?:y|ies)[^a-z]{0,3}(?:status|fail|problem|error|has failed|incomplete|delayed)",
    "delivery[^a-z]{0,3}(?:notification|report|to|of|has)",
    "returned mail",
    "mail (?:delivery|system error|returned|not)",
    "failure notice",
    "(?:could|can) ?(?:not|n.t) (?:be )?(?:send|sent|deliver)",
    "message (?:not|you sent|undeliver|rejected|bounced)",
    "non-?delivery",
    "bounced?",
    "not (?:be )?delivered",
    "rejected",
    "failed? (?:mail|delivery|recipient)",
    "delayed",
    "returned to sender",
    "nicht zugestellt",
    "unzustellbar",
    "zustell",
    "non remis",
    "non distribu",
    "[eé]chec",
    "no entregad",
    "no se (?:ha podido|pudo) entregar",
    "devuelto",
    "n[aã]o (?:foi )?entreg",
    "devolvid",
    "mancat[oa] (?:recapito|consegna)",
    "non recapitat",
    "onbestelbaar",
    "niet (?:be)?bezorg",
    "niedostarcz",
    "nie dostarcz",
    "zwrot",
    "nedoru[cč]",
    "nedoručiteln",
    "k[eé]zbes[ií]thetetlen",
    "nem k[eé]zbes",
    "kunde inte levereras",
    "olevererbar",
    "ej levererat",
    "не доставлен",
    "недоставлен",
    "невдал",
    "не удалось доставить",
    "возврат",
    "teslim edil",
    "iletilemedi",
    "配信不能",
    "配信(?:できません|エラー|失敗)",
    "配達",
    "エラーメール",
    "退信",
    "无法(?:投递|送达)",
    "投递失败",
    "無法傳遞",
    "배달(?:되지|할 수| 실패)",
    "반송",
)
_BOUNCE_SUBJECT = re.compile("|".join(_BOUNCE_SUBJECTS), re.IGNORECASE)
_DAEMON_LOCAL = re.compile(
    r"(?:mailer-?daemon|mdaemon|mail-?daemon|mail-?delivery|maildelivery|mail-?er|bounces?|double-bounce|mail-?system)"
    r"(?:[+=._-].*)?\Z",
    re.IGNORECASE,
)
_DAEMON_NAME = re.compile(
    r"mail(?:er)? ?(?:delivery|daemon|er-?daemon)(?: (?:sub)?system| service)?|mail delivery|delivery (?:sub)?system|"
    r"mail administrator|internet mail delivery",
    re.IGNORECASE,
)
_FROM = re.compile(r"([^\s<>\"(),:;@]{1,128})@[^\s<>]{1,255}>?\s*\Z")
_REPLY_LINE = re.compile(
    r"(?:^|[\s:>(\[\"'=])(?:[45]\d\d[ -][^\n]{3,}|#?[45]\.\d{1,3}\.\d{1,3}\b)|"
    r"^(?:final-recipient|diagnostic-code|status)\s*:", re.IGNORECASE | re.MULTILINE
)  # fmt: skip


def is_auto_reply(message: Entity) -> bool:
    """Return whether a mailbox replied by itself: RFC 3834 §5, and what was usual before it."""
    submitted = _COMMENT.sub("", message.get("auto-submitted")[:_LONG]).strip().lower().partition(";")[0].strip()
    subject = words(message.get("subject")[:_LONG])[:_LONG]
    bounce = is_daemon(message) and not _AUTO_SUBJECT.match(subject)
    if message.type == "multipart/report" and "disposition" in message.parameters.get("report-type", "").lower():
        return True  # a read receipt (RFC 8098)
    if submitted in ("auto-replied", "auto-notified"):
        return not (bounce or (_BOUNCE_SUBJECT.search(subject) and message.get("return-path").strip() == "<>"))
    if bounce:
        return False
    for name in ("x-autoreply", "x-autorespond", "x-mail-autoreply", "x-autoresponder", "x-autogenerated"):
        if message.get(name):
            return True
    if message.get("x-auto-response-suppress").strip().upper() == "OOF":
        return True
    if message.get("precedence").strip().lower() in ("auto_reply", "auto-reply"):
        return True
    return bool(_AUTO_SUBJECT.match(subject)) and not _BOUNCE_SUBJECT.search(subject)


def looks_like_bounce(message: Entity) -> bool:
    """Return whether the subject is that of a bounce, whoever wrote it."""
    return bool(_BOUNCE_SUBJECT.search(words(message.get("subject")[:_LONG])[:_LONG]))


def is_daemon(message: Entity) -> bool:
    """Return whether the address in From, or the name beside it, is that of a mail system."""
    value = words(message.get("from")[:_LONG])[:_LONG]
    found = _FROM.search(_COMMENT.sub("", value))
    local = found.group(1) if found else value.strip().strip("<>")
    if _DAEMON_LOCAL.match(local) or _DAEMON_NAME.search(value.partition("<")[0]):
        return True
    return local.lower() in ("postmaster", "root") and looks_like_bounce(message)


def is_machine(message: Entity, parts: list[Entity], text: str) -> bool:
    """Return whether a machine sent a message: by its sender, its type, or a structure that only machines produce.

    A subject, or a reply that somebody quotes, is not enough.
    """
    if is_daemon(message) or message.get("return-path").strip() == "<>" or message.get("x-failed-recipients"):
        return True
    if message.type == "multipart/report" or message.get("from").strip() in ("", "<>"):
        return True
    if message.get("in-reply-to") or not looks_like_bounce(message):
        return False
    enclosed = any(part.type in ("message/rfc822", "text/rfc822-headers", "message/delivery-status") for part in parts)
    generated = message.get("auto-submitted").strip().lower().startswith("auto-")
    return bool((enclosed or generated) and _REPLY_LINE.search(text))

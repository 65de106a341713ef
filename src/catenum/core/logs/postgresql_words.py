"""What the parts of PostgreSQL's messages are called in the languages that it ships
(``postgres.po``).
"""

from __future__ import annotations

_WORDS = {
    "LOG": (
        "LOG JOURNAL 로그 ログ ЛОГ СООБЩЕНИЕ KAYIT 日志 LOGG DZIENNIK REGISTRO ჟურნალი ЗАПИСУВАННЯ"
    ),
    "ERROR": (
        "ERROR ERREUR FEHLER ERRORE ERRO BŁĄD ОШИБКА ПОМИЛКА HATA FEL エラー 오류 错误 ΣΦΑΛΜΑ CHYBA"
        " შეცდომა"
    ),
    "FATAL": (
        "FATAL FATALE КРИТИЧНО ВАЖНО ÖLÜMCÜL 致命错误 致命的エラー KATASTROFALNY ФАТАЛЬНО ფატალური"
        " 치명적오류 FATALT"
    ),
    "PANIC": (
        "PANIC PANIQUE PANIK PÁNICO PANICO 패닉 ПАНИКА PANİK ПАНІКА პანიკა 손상 "
        "比致命错误还过分的错误"
    ),
    "WARNING": (
        "WARNING ATTENTION WARNUNG ATTENZIONE ADVERTENCIA AVISO 警告 경고 ПРЕДУПРЕЖДЕНИЕ "
        "UYARI VARNING გაფრთხილება ПОПЕРЕДЖЕННЯ"
    ),
    "NOTICE": "NOTICE HINWEIS NOTIFICA NOTA 알림 注意 ЗАМЕЧАНИЕ NOT NOTIS UWAGA ПОВІДОМЛЕННЯ",
    "INFO": "INFO INFORMAÇÃO 情報 정보 ИНФОРМАЦИЯ BİLGİ 信息 ინფორმაცია ІНФОРМАЦІЯ",
    "DEBUG": "DEBUG DÉBOGAGE DEPURAÇÃO 디버그 调试 デバッグ ОТЛАДКА გამართვა НАЛАГОДЖЕННЯ",
    "DETAIL": (
        "DETAIL DÉTAIL DETTAGLI DETALLE DETALHE 詳細 상세정보 详细信息 ПОДРОБНОСТИ AYRINTI DETALJ "
        "SZCZEGÓŁY დეტალები ВІДОМОСТІ"
    ),
    "HINT": (
        "HINT ASTUCE TIPP SUGGERIMENTO SUGERENCIA DICA ヒント 힌트 提示 ПОДСКАЗКА İPUCU TIPS "
        "PODPOWIEDŹ მინიშნება УКАЗІВКА"
    ),
    "QUERY": (
        "QUERY REQUÊTE ANFRAGE CONSULTA 问询 ЗАПРОС SORGU FRÅGA 問い合わせ 쿼리 მოთხოვნა ЗАПИТ 查询"
    ),
    "CONTEXT": (
        "CONTEXT CONTEXTE ZUSAMMENHANG CONTESTO CONTEXTO コンテキスト 上下文 КОНТЕКСТ BAĞLAM "
        "KONTEXT 文脈 კონტექსტი 내용"
    ),
    "STATEMENT": (
        "STATEMENT INSTRUCTION ANWEISUNG ISTRUZIONE SENTENCIA COMANDO 文 명령 구문 语句 ОПЕРАТОР "
        "İFADE SATS ოპერატორი ІНСТРУКЦІЯ"
    ),
    "LOCATION": (
        "LOCATION EMPLACEMENT ORT POSIZIONE UBICACIÓN 場所 위치 位置 ПОЛОЖЕНИЕ YER PLATS მდებარეობა"
        " РОЗТАШУВАННЯ"
    ),
}
#: What each is in English.
ENGLISH = {word: name for name, words in _WORDS.items() for word in words.split()}

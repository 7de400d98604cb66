"""What the words of others' logs mean: events, and the outcomes of signing in."""

from __future__ import annotations

import re

from mossy_trail.core.model.log import EVENT, OUTCOME, OUTCOMES

CUSTOM, LEFT_OUT = "custom", "leave out"
"""Meanings of a word: a mark of its own; or its rows are not wanted."""

_WORDS = {
    "screen_view": (
        "view viewed page_view page_viewed page_shown screen_viewed screen_shown shown show seen "
        "appear appeared displayed impression did_appear view_did_appear view_appeared on_appear "
        "did_focus screen_focus screen_focused page_enter page_show pageshow route_shown screen "
        "page screen_open screen_opened page_open page_opened page_load page_loaded visit visited "
        "route_view scene_shown fragment_shown activity_resumed screen_impression view_screen "
        "view_page screen_display screen_displayed"
    ),
    "navigate": (
        "navigate navigated navigation navigate_to go go_to goto open_screen hashchange "
        "hash_change location_change route_change route_changed"
    ),
    "traverse": (
        "back go_back went_back back_nav return popstate pop_state pop_back_stack navigate_back "
        "navigate_up maybe_pop back_pressed back_press back_button system_back hardware_back"
    ),
    "push": (
        "forward_nav enter went_in next push_state pushed push_route push_screen push_named "
        "push_view_controller start_activity"
    ),
    "pop": "popped pop_route pop_screen pop_view_controller",
    "pop_to": (
        "pop_to_top pop_to_root pop_until pop_to_screen pop_to_view_controller "
        "pop_to_root_view_controller back_to_top"
    ),
    "replace": (
        "swap replaced replace_state replace_route replace_screen replace_with redirect_to "
        "push_replacement push_replacement_named"
    ),
    "reset": (
        "reset_root reset_to re_launch relaunch clear_stack set_root set_root_view_controller "
        "push_and_remove_until push_named_and_remove_until"
    ),
    "switch_tab": (
        "tab tab_tap tap_tab tab_click tab_clicked tab_select tab_tapped tab_selected change_tab "
        "select_tab tab_change tab_press "
        "tab_pressed tab_switched jump_to"
    ),
    "open_modal": (
        "modal sheet dialog popup open_sheet open_dialog sheet_open dialog_open modal_open "
        "modal_opened sheet_opened present presented present_modal present_view_controller "
        "show_modal show_dialog show_sheet show_bottom_sheet open_drawer drawer_open drawer_opened"
    ),
    "close_modal": (
        "dismiss dismissed close_sheet close_dialog sheet_close dialog_close modal_close "
        "modal_closed sheet_closed dismiss_modal dismiss_view_controller hide_modal hide_dialog "
        "close_drawer drawer_close drawer_closed"
    ),
    "update": "set_params update_params params_changed",
    "forward": "go_forward forward_pressed",
    "redirect": "redirected",
    "open_link": (
        "deeplink deep_link link link_open link_opened deep_link_opened open_url opened_url "
        "url_opened universal_link"
    ),
    "app_start": (
        "start launch launched boot app_open app_opened app_launch app_launched app_started "
        "application_launched application_started cold_start did_finish_launching"
    ),
    "app_background": (
        "background pause paused suspend hidden backgrounded app_backgrounded app_paused "
        "enter_background entered_background"
    ),
    "app_foreground": (
        "foreground resume resumed visible foregrounded app_foregrounded app_resumed "
        "become_active enter_foreground will_enter_foreground entered_foreground"
    ),
    "app_recreate": "reload reloaded page_reload",
    "app_exit": "exit quit terminated app_close will_terminate",
    "sign_in": "login log_in signin auth authentication authenticate",
    "sign_out": "logout log_out signout logged_out signed_out",
    "sign_up": "register registration signup create_account",
    "session_restored": "session_resumed token_restored auto_login auto_sign_in restored_session",
}
_PREFIX = re.compile(r"(navigation|nav|router|route|history|stack|did|on)_")
"""What libraries put before the words of their events."""
_SQUEEZED: dict[str, str] = {}
for _event, _words in _WORDS.items():
    for _word in (_event, *_words.split()):
        _SQUEEZED.setdefault(_word.replace("_", ""), _event)

_OK = (
    "success succeeded successful ok okay completed complete done passed accepted granted verified"
)
_FAILED = (
    "fail failed failure error errored wrong invalid denied rejected incorrect expired locked "
    "refused unauthorized"
)
_ATTEMPT = (
    "attempt attempted try tried start started begin began submit submitted request requested"
)
_ENDING = {
    word: outcome
    for outcome, words in (("ok", _OK), ("failed", _FAILED), ("attempt", _ATTEMPT))
    for word in words.split()
}
_OF_OUTCOME = {
    **{word: word for word in OUTCOMES},
    **_ENDING,
    **dict.fromkeys(("true", "yes", "y", "1", "200", "201", "204", "positive"), "ok"),
    **dict.fromkeys(("false", "no", "n", "0", "400", "401", "403", "404", "429", "500"), "failed"),
    **dict.fromkeys(("stay", "cancel", "cancelled", "canceled", "keep", "kept"), "stayed"),
    **dict.fromkeys(("leave", "discard", "discarded", "abandon", "abandoned"), "left"),
    **dict.fromkeys(("pending", "in_progress", "initiated"), "attempt"),
}
_SIGN_IN = set("login signin auth authentication authenticate logon".split())
_BY_CODE = set("otp code pin password passcode mfa 2fa verification biometric biometrics".split())
_SIGN_UP = set("signup register registration enrol enroll enrolment".split())
_PAST = {
    **dict.fromkeys(("loggedin", "signedin", "authenticated", "loggedon"), "sign_in ok"),
    **dict.fromkeys(("signedup", "registered", "accountcreated", "enrolled"), "sign_up ok"),
}
_FILLING = set("user did on app event account customer with by the".split())
_SHOWN = set(
    "view viewed views shown show seen appear appeared impression displayed display visit visited "
    "pageview screenview".split()
)
_CAMEL = re.compile(r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])")


def plain(word: str) -> str:
    """`pageView`, `Page View` and `page-view` are all `page_view`."""
    return re.sub(r"[^a-z0-9]+", "_", _CAMEL.sub("_", word).casefold()).strip("_")


def meaning(word: str) -> str | None:
    """One of our events, followed by an outcome if the word tells one; None for a word unknown.

    `login_success` is `sign_in ok`.
    """
    whole = plain(word)
    bare = _PREFIX.sub("", whole, count=1) if _PREFIX.match(whole) else whole
    for form in (whole, bare):
        if form in EVENT and form != CUSTOM:
            return form
        if event := _SQUEEZED.get(form.replace("_", "")):
            return event
    return _account_word(whole)


def _account_word(whole: str) -> str | None:
    """What a word says of signing in or up, made of a subject and how it ended."""
    joined = re.sub(r"(?<![a-z])(sign|log)_(in|up|on)(?![a-z])", r"\1\2", whole)
    tokens = [token for token in joined.split("_") if token not in _FILLING]
    ends = [_ENDING[token] for token in tokens if token in _ENDING]
    rest = {token for token in tokens if token not in _ENDING}
    if said := _PAST.get("".join(tokens)) or _PAST.get(whole.replace("_", "")):
        return said
    if not rest or len(set(ends)) != 1:
        return None
    if rest <= _BY_CODE and {"request", "requested"} & set(tokens):
        return None  # a code that is sent for is no try yet
    if rest <= _SIGN_UP:
        return f"sign_up {ends[0]}"
    return f"sign_in {ends[0]}" if rest <= _SIGN_IN | _BY_CODE else None


def parted(meant: str) -> tuple[str, str]:
    """The event and the outcome of a meaning; the latter may be empty."""
    event, _, outcome = meant.partition(" ")
    return (event, outcome) if event in EVENT and outcome in ("", *OUTCOME) else (meant, "")


def outcome_of(word: str) -> str | None:
    """The outcome that a word of an outcome's own column stands for."""
    return _OF_OUTCOME.get(plain(word))


def looks_like_view(word: str) -> bool:
    """Whether a word sounds as if something were shown."""
    return bool(_SHOWN & set(plain(word).split("_")))

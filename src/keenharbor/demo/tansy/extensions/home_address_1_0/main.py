"""Sends visitors who came by another name to the site's own address."""


def register(site):
    from core.app import Answer

    def at_home(request):
        profile = site.option("site.profile", {})
        home = profile.get("home", site.settings["site.address"]).rstrip("/")
        if request.headers.get("Host") != home.split("://", 1)[1]:
            return Answer("", 301, headers=[("Location", home + request.path)])
        return None

    site.before_answer.append(at_home)

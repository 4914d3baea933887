from django.urls import path

from web.gates import choosing_views, claims, views

urlpatterns = [
    path("gate", views.gate, name="gate"),
    path("gate/mode", choosing_views.take_mode, name="gate-mode"),
    path("gate/lens", choosing_views.take_lens, name="gate-lens"),
    path("gate/database-camera", choosing_views.take_database_camera, name="gate-database-camera"),
    path("gate/database-lens", choosing_views.take_database_lens, name="gate-database-lens"),
    path("gate/step", views.put_step, name="gate-step"),
    path("gate/step/<str:step_id>/<str:verb>", views.step_verb, name="gate-step-verb"),
    path("gate/rate", views.camera_rate, name="gate-rate"),
    path("gate/remedy", views.remedy, name="gate-remedy"),
    path("gate/render", views.render_size, name="gate-render"),
    path("gate/guides", views.guides, name="gate-guides"),
    path("gate/follow", views.follow, name="gate-follow"),
    path("gate/ledger.csv", views.ledger_file, name="gate-ledger"),
    path("gate/all-around", views.around, name="gate-around"),
    path("gate/claims", claims.claims, name="gate-claims"),
    path("gate/claims/take", claims.take, name="gate-claims-take"),
]
